package tail

import (
	"time"

	"oakbarrel/core/roll"
)

// check looks whether an open file that has changed was cut.
func (f *Follower) check(s *source) {
	if s.file == nil {
		return
	}
	st, err := s.file.Stat()
	if err != nil || st.Size() == s.lastSize && !s.dirty {
		return
	}
	s.dirty = true
	if f.becamePacked(s) {
		return
	}
	if st.Size() < s.read || !f.hasHole(s, st.Size()) && !f.sameHead(s) {
		f.wasCut(s, statOf(st))
	}
}

// becamePacked gives up a source of which nothing is known and whose file turns
// out to be a compressed one, written in the place of what was cut: what that is
// shows the next look.
func (f *Follower) becamePacked(s *source) bool {
	if s.Head.Length > 0 || s.file == nil || s.Packed {
		return false
	}
	var first [10]byte
	n, _ := s.file.ReadAt(first[:], 0)
	if kind, foreign := roll.Sniff(first[:n]); kind == roll.NoCompression && foreign == "" {
		return false
	}
	f.drop(s)
	s.close()
	f.lose(s)
	f.lookBy(f.now())
	return true
}

// hasHole tells whether the file of a source of which nothing is known begins with NULs.
func (f *Follower) hasHole(s *source, size int64) bool {
	var first [1]byte
	if s.Head.Length > 0 || size == 0 {
		return false
	}
	_, err := s.file.ReadAt(first[:], 0)
	return err == nil && first[0] == 0
}

// wasCut begins a source with what stands in a file now that was cut, and looks
// for a copy with the rest of what stood there before.
func (f *Follower) wasCut(s *source, st stat) {
	now := f.now()
	window := now.Sub(s.looked)
	if s.looked.IsZero() {
		window = 0
	}
	c := candidate{path: s.Path, real: s.real, stat: st}
	if st.Links == 0 {
		c.real += " (removed)" // its name is another's now
	}
	next := &source{ID: newID(), file: s.file, cuts: s.cuts + 1, window: max(s.window, window)}
	s.file = nil
	f.drop(s)
	next.Device, next.Inode, next.Birth = st.Device, st.Inode, s.Birth
	f.byPath[c.real] = next // so that it is no neighbour
	copied := f.findCopy(s)
	for _, other := range f.sources {
		if other.waits == s {
			other.waits = next
		}
	}
	if copied && !s.Done {
		next.waits = s
	}
	if !copied {
		f.lose(s)
	}
	f.log.Info("a file was cut", "path", c.path, "read_up_to", s.read, "copy", copied, "looked_at_before", window.Round(time.Millisecond).String())
	f.start(next, c)
	f.sortSources()
}

// findCopy looks for the copy that was made of a source before its file was cut,
// which has the rest of it.
func (f *Follower) findCopy(s *source) bool {
	l := f.newLooking()
	l.cut[s] = true
	files := f.neighbours(s, l)
	for _, a := range f.asides {
		if a.of == s {
			files = append([]*probe{{candidate: a.candidate, look: l}}, files...)
		}
	}
	return f.goOnIn(s, files, l)
}
