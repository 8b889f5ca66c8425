package spool

import (
	"bytes"
	"encoding/binary"
	"errors"
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
	group       numbers // of the whole group
	first, last uint64  // numbers of the frame
	marks       []record.Mark
	body        []byte
}

// numbers is a run of numbers, both ends included.
type numbers struct{ first, last uint64 }

// The head of a frame: magic, checksum of all that follows the head, length of
// that, of it the marks, records, numbers of the group and of the frame, and a
// checksum of the head itself, so that a damaged body still tells its numbers.
const (
	headSize  = 56
	magic     = "OBF2"
	oldMagic  = "OBF1" // without the head's own checksum: one is of all from byte 8 on
	oldSize   = 52
	maxLength = 256 << 20 // bytes of marks and body, against a damaged length
)

// errDamaged says that a frame, or a part of one, is not as it was written.
var errDamaged = errors.New("a frame is damaged")

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
	head := dst[start : start+headSize]
	copy(head, magic)
	binary.LittleEndian.PutUint32(head[4:], crc32.Checksum(dst[start+headSize:], castagnoli))
	binary.LittleEndian.PutUint32(head[8:], uint32(len(dst)-start-headSize))
	binary.LittleEndian.PutUint32(head[12:], uint32(marksEnd-start-headSize))
	binary.LittleEndian.PutUint32(head[16:], f.records)
	binary.LittleEndian.PutUint64(head[20:], f.group.first)
	binary.LittleEndian.PutUint64(head[28:], f.group.last)
	binary.LittleEndian.PutUint64(head[36:], f.first)
	binary.LittleEndian.PutUint64(head[44:], f.last)
	binary.LittleEndian.PutUint32(head[52:], crc32.Checksum(head[:52], castagnoli))
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

// readFrame reads the frame at an offset of a chunk that is written up to end,
// and returns its size. The error is io.EOF where no head stands there, or the
// file ends before the frame does, and errDamaged where its body is damaged:
// then numbers and size still hold. The body is valid until the next read.
func (w *window) readFrame(at, end int64) (fr frame, size int64, err error) {
	head, err := w.bytes(at, min(headSize, max(end-at, oldSize)), end)
	if err != nil {
		return fr, 0, err
	}
	old := string(head[:4]) == oldMagic
	length := binary.LittleEndian.Uint32(head[8:])
	marksSize := binary.LittleEndian.Uint32(head[12:])
	own := int64(headSize)
	if old {
		own = oldSize
	}
	switch {
	case length > maxLength || marksSize > length || len(head) < int(own):
		return fr, 0, io.EOF
	case !old && (string(head[:4]) != magic || crc32.Checksum(head[:52], castagnoli) != binary.LittleEndian.Uint32(head[52:])):
		return fr, 0, io.EOF
	}
	size = own + int64(length)
	fr = frame{
		records: binary.LittleEndian.Uint32(head[16:]), group: numbers{binary.LittleEndian.Uint64(head[20:]), binary.LittleEndian.Uint64(head[28:])},
		first: binary.LittleEndian.Uint64(head[36:]), last: binary.LittleEndian.Uint64(head[44:]),
	}
	whole, err := w.bytes(at, size, end)
	if err != nil {
		return fr, 0, err
	}
	covered, sum := whole[own:], binary.LittleEndian.Uint32(whole[4:])
	if old {
		covered = whole[8:]
	}
	switch {
	case crc32.Checksum(covered, castagnoli) == sum:
	case old: // of which not even the head is certain
		return fr, 0, io.EOF
	default:
		return fr, size, errDamaged
	}
	rest := whole[own:]
	fr.body = rest[marksSize:]
	d := reader{b: rest[:marksSize]}
	for len(d.b) > 0 && !d.bad {
		source := string(d.bytes(d.uvarint()))
		fr.marks = append(fr.marks, record.Mark{Source: source, Offset: int64(d.uvarint())})
	}
	return fr, size, nil
}

// nextFrame returns the offset of the first frame behind one that cannot be
// read, end where there is none.
func (w *window) nextFrame(at, end int64) int64 {
	for at++; at+oldSize <= end; {
		b, err := w.bytes(at, min(windowSize, end-at), end)
		if err != nil {
			return end
		}
		i := bytes.Index(b, []byte(magic[:3]))
		if i < 0 {
			at += int64(len(b)) - 2
			if int64(len(b)) < windowSize {
				return end
			}
			continue
		}
		at += int64(i)
		if _, _, err := w.readFrame(at, end); err == nil || err == errDamaged {
			return at
		}
		at++
	}
	return end
}
