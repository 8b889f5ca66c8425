package spool

import (
	"encoding/binary"
	"hash/crc32"
	"io"
	"slices"

	"oakbarrel/core/record"
)

// frame is a run of records of one lane, in the order of their numbers, as it
// stands in a chunk: a head and a body of records. All frames that one flush
// writes are a group; after a kill a group that is not whole is taken back, so
// that no number is missing.
type frame struct {
	records     uint32
	group       numbers       // of the whole group
	first, last uint64        // numbers of the frame
	marks       []record.Mark // in one frame of the group
	body        []byte
}

// numbers is a run of numbers, both ends included.
type numbers struct{ first, last uint64 }

const (
	headSize  = 52
	magic     = "OBF1"
	maxLength = 256 << 20 // bytes of marks and body, against a damaged length
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// append writes the frame.
func (f *frame) append(dst []byte) []byte {
	start := len(dst)
	dst = append(dst, make([]byte, headSize)...)
	for _, m := range f.marks {
		dst = binary.AppendUvarint(dst, uint64(len(m.Source)))
		dst = append(dst, m.Source...)
		dst = binary.AppendUvarint(dst, uint64(m.Offset))
	}
	marksEnd := len(dst)
	dst = append(dst, f.body...)
	head := dst[start:]
	copy(head, magic)
	binary.LittleEndian.PutUint32(head[8:], uint32(len(dst)-start-headSize))
	binary.LittleEndian.PutUint32(head[12:], uint32(marksEnd-start-headSize))
	binary.LittleEndian.PutUint32(head[16:], f.records)
	binary.LittleEndian.PutUint64(head[20:], f.group.first)
	binary.LittleEndian.PutUint64(head[28:], f.group.last)
	binary.LittleEndian.PutUint64(head[36:], f.first)
	binary.LittleEndian.PutUint64(head[44:], f.last)
	binary.LittleEndian.PutUint32(head[4:], crc32.Checksum(head[8:], castagnoli))
	return dst
}

// window reads a chunk, a part at a time. What it returns is valid until the next read.
type window struct {
	file   io.ReaderAt
	buffer []byte
	start  int64 // of the buffer in the file
}

const windowSize = 64 << 10 // bytes; more where a frame has more

// bytes returns n bytes from an offset on, and io.EOF where they are not all before end.
func (w *window) bytes(at, n, end int64) ([]byte, error) {
	if at+n > end {
		return nil, io.EOF
	}
	if at < w.start || at+n > w.start+int64(len(w.buffer)) {
		size := max(n, min(windowSize, end-at))
		w.buffer = slices.Grow(w.buffer[:0], int(size))[:size]
		w.start = at
		if _, err := w.file.ReadAt(w.buffer, at); err != nil {
			w.buffer = w.buffer[:0]
			return nil, io.EOF
		}
	}
	return w.buffer[at-w.start:][:n], nil
}

// readFrame reads the frame at an offset of a chunk that is written up to end.
// It returns the frame's size, and io.EOF where no whole frame stands there.
// The body is valid until the next read.
func (w *window) readFrame(at, end int64) (fr frame, size int64, err error) {
	head, err := w.bytes(at, headSize, end)
	if err != nil {
		return fr, 0, err
	}
	length := binary.LittleEndian.Uint32(head[8:])
	if string(head[:4]) != magic || length > maxLength {
		return fr, 0, io.EOF
	}
	size = headSize + int64(length)
	whole, err := w.bytes(at, size, end)
	if err != nil {
		return fr, 0, err
	}
	head, rest := whole[:headSize], whole[headSize:]
	marksSize := binary.LittleEndian.Uint32(head[12:])
	if crc32.Checksum(whole[8:], castagnoli) != binary.LittleEndian.Uint32(head[4:]) || marksSize > length {
		return fr, 0, io.EOF
	}
	fr = frame{
		records: binary.LittleEndian.Uint32(head[16:]), group: numbers{binary.LittleEndian.Uint64(head[20:]), binary.LittleEndian.Uint64(head[28:])},
		first: binary.LittleEndian.Uint64(head[36:]), last: binary.LittleEndian.Uint64(head[44:]), body: rest[marksSize:],
	}
	d := reader{b: rest[:marksSize]}
	for len(d.b) > 0 && !d.bad {
		source := string(d.bytes(d.uvarint()))
		fr.marks = append(fr.marks, record.Mark{Source: source, Offset: int64(d.uvarint())})
	}
	return fr, size, nil
}
