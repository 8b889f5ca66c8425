package spool

import (
	"encoding/binary"
	"hash/crc32"
	"io"
	"os"

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

// readFrame reads the frame at an offset of a chunk. It returns the frame's
// size, and io.EOF where no whole frame stands there.
func readFrame(f *os.File, at int64) (fr frame, size int64, err error) {
	var head [headSize]byte
	if _, err := f.ReadAt(head[:], at); err != nil {
		return fr, 0, io.EOF
	}
	length := binary.LittleEndian.Uint32(head[8:])
	if string(head[:4]) != magic || length > maxLength {
		return fr, 0, io.EOF
	}
	rest := make([]byte, length)
	if _, err := f.ReadAt(rest, at+headSize); err != nil {
		return fr, 0, io.EOF
	}
	sum := crc32.Update(crc32.Checksum(head[8:], castagnoli), castagnoli, rest)
	marksSize := binary.LittleEndian.Uint32(head[12:])
	if sum != binary.LittleEndian.Uint32(head[4:]) || marksSize > length {
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
	return fr, headSize + int64(length), nil
}
