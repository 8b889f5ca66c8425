package spool

import "bytes"

// Damage is what was found damaged when a spool was opened.
type Damage struct {
	File    string
	Bytes   int64 // that cannot be read
	Records int64 // that are lost with them, as far as their frames still tell
	End     bool  // at the end: how many records stood there is not known
}

func (s *Spool) found(path string, d Damage) {
	d.File = path
	s.tell(d)
}

// isTorn tells whether what stands at the end of a chunk is the beginning of a
// frame, as a kill leaves it.
func (w *window) isTorn(at, end int64) bool {
	rest := end - at
	head, err := w.bytes(at, min(rest, headSize), end)
	if err != nil {
		return false
	}
	if rest < oldSize || rest < headSize && bytes.HasPrefix(head, []byte(magic)) {
		return bytes.HasPrefix([]byte(magic), head[:min(rest, 4)]) || bytes.HasPrefix([]byte(oldMagic), head[:min(rest, 4)])
	}
	fr, size, _ := w.readFrame(at, end)
	return size == 0 && fr.records > 0 // the head is sound, and the file ends before the frame does
}
