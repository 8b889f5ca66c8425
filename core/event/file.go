package event

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strconv"
)

// The parts of an event file: a header, and chunks that each stand for themselves.
const (
	fileHead   = 4096
	chunkSize  = 1 << 16
	chunkHead  = 512
	recordHead = 24 // the mark, the size, the number and the time; the size stands at the end again
	recordMark = 0x00002a2a
	mostSeen   = 1 << 18 // entries that are remembered, each of 64 events
	mostLines  = 8 << 20 // bytes of a chunk's events; it has a tenth of it as long as nobody has made it to do harm
)

// MostFile is how large an event file is at most, in bytes: its chunks are counted with 16 bits.
const MostFile = fileHead + chunkSize*(1<<16-1)

var (
	fileMark  = []byte("ElfFile\x00")
	chunkMark = []byte("ElfChnk\x00")
	le        = binary.LittleEndian
)

// IsFile tells whether what begins with head, of at least eight bytes, is an event file.
func IsFile(head []byte) bool { return bytes.HasPrefix(head, fileMark) }

// MayBeFile tells whether the beginning of a file is too short to tell whether it is an event file.
func MayBeFile(head []byte) bool {
	const telling = 3
	return len(head) >= telling && len(head) < len(fileMark) && bytes.HasPrefix(fileMark, head)
}

// FileIsWhole tells whether a file of a size, whose first 48 bytes are head, has all that it says it has.
func FileIsWhole(head []byte, size int64) bool {
	return size >= fileHead+chunkSize*int64(le.Uint16(head[42:]))
}

// FileReader reads an event file as lines: each event as XML, in the order of their numbers. In
// place of what is damaged comes an event that says so; each comes once. It is for one goroutine.
type FileReader struct {
	in     io.ReaderAt
	chunks []chunkAt
	known  bool
	dirty  bool // the file was copied while it was written: heads of chunks may be older than their events
	chunk  []byte
	binary xmlWriter
	seen   map[uint64]uint64 // numbers of events that have come, 64 to an entry
	lines  []byte
	at     int // of lines that were read
}

// chunkAt is where a chunk stands, and the number of its first event.
type chunkAt struct {
	offset int64
	first  uint64
}

// NewFileReader returns a reader of the file that in reads.
func NewFileReader(in io.ReaderAt) *FileReader {
	return &FileReader{in: in, seen: map[uint64]uint64{}}
}

// Read implements [io.Reader].
func (f *FileReader) Read(b []byte) (int, error) {
	if !f.known {
		if err := f.findChunks(); err != nil {
			return 0, err
		}
		f.known = true
	}
	for f.at == len(f.lines) {
		if len(f.chunks) == 0 {
			return 0, io.EOF
		}
		f.lines, f.at = f.lines[:0], 0
		if err := f.takeChunk(f.chunks[0]); err != nil {
			return 0, err
		}
		f.chunks = f.chunks[1:]
	}
	n := copy(b, f.lines[f.at:])
	f.at += n
	return n, nil
}

// findChunks puts the chunks in the order of their events: the file is a ring.
func (f *FileReader) findChunks() error {
	var head [chunkHead + recordHead]byte
	if n, err := f.in.ReadAt(head[:], 0); n < len(head) && !errors.Is(err, io.EOF) {
		return err
	}
	f.dirty = le.Uint32(head[120:])&1 != 0
	for at := int64(fileHead); ; at += chunkSize {
		n, err := f.in.ReadAt(head[:], at)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if n == 0 {
			break
		}
		clear(head[n:])
		first := le.Uint64(head[24:])
		if !headIsWhole(head[:chunkHead]) {
			first = le.Uint64(head[chunkHead+8:])
		}
		f.chunks = append(f.chunks, chunkAt{at, first})
	}
	slices.SortStableFunc(f.chunks, func(a, b chunkAt) int { return cmp.Compare(a.first, b.first) })
	return nil
}

// headIsWhole tells whether the sum of a chunk's head is right.
func headIsWhole(chunk []byte) bool {
	return bytes.HasPrefix(chunk, chunkMark) && crc32.Update(crc32.ChecksumIEEE(chunk[:120]), crc32.IEEETable, chunk[128:chunkHead]) == le.Uint32(chunk[124:])
}

// takeChunk writes the lines of a chunk.
func (f *FileReader) takeChunk(c chunkAt) error {
	if f.chunk == nil {
		f.chunk = make([]byte, chunkSize)
	}
	n, err := f.in.ReadAt(f.chunk, c.offset)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	clear(f.chunk[n:])
	if isEmpty(f.chunk[:chunkHead]) && isEmpty(f.chunk[chunkHead:]) {
		return nil
	}
	if !bytes.HasPrefix(f.chunk, chunkMark) {
		f.sayf("the chunk at byte %d of the event file is damaged", c.offset)
	}
	numbers, free := span{0, ^uint64(0)}, chunkSize
	if headIsWhole(f.chunk) {
		numbers = span{le.Uint64(f.chunk[24:]), le.Uint64(f.chunk[32:])}
		if at := int(le.Uint32(f.chunk[48:])); at >= chunkHead && at < chunkSize {
			free = at // what is behind it is of before the chunk was used again
		}
	}
	if sum := crc32.ChecksumIEEE(f.chunk[chunkHead:free]); free < chunkSize && !f.dirty && sum != le.Uint32(f.chunk[52:]) {
		f.sayf("the chunk at byte %d of the event file is not as it was written: its events may be wrong, or missing", c.offset)
	}
	at := f.takeRecords(c.offset, chunkHead, free, numbers)
	for f.dirty && at+recordHead < chunkSize && le.Uint32(f.chunk[at:]) == recordMark && le.Uint64(f.chunk[at+8:]) == numbers.last+1 {
		numbers.last++
		at = f.takeRecords(c.offset, at, min(chunkSize, at+max(recordHead, int(le.Uint32(f.chunk[at+4:])))), numbers)
	}
	return nil
}

// span is from which number on events have theirs, and up to which.
type span struct{ first, last uint64 }

// takeRecords writes the lines of what stands in a chunk from at up to free, and returns where it ended.
func (f *FileReader) takeRecords(chunk int64, at, free int, numbers span) int {
	for at+recordHead <= free {
		if le.Uint32(f.chunk[at:]) != recordMark {
			if isEmpty(f.chunk[at:free]) {
				break
			}
			next := nextRecord(f.chunk[:free], at+1)
			f.sayf("%d bytes at byte %d of the event file are damaged", next-at, chunk+int64(at))
			at = next
			continue
		}
		size := int(le.Uint32(f.chunk[at+4:]))
		if size < recordHead+4 || size > free-at || int(le.Uint32(f.chunk[at+size-4:])) != size {
			size = nextRecord(f.chunk[:free], at+1) - at
		}
		f.takeRecord(chunk, at, size, numbers)
		at += size
	}
	return at
}

// takeRecord writes the line of an event.
func (f *FileReader) takeRecord(chunk int64, at, size int, numbers span) {
	number := le.Uint64(f.chunk[at+8:])
	if number < numbers.first || number > numbers.last {
		f.sayf("the event at byte %d of the event file is damaged", chunk+int64(at))
		return
	}
	bit := uint64(1) << (number % 64)
	if f.seen[number/64]&bit != 0 {
		return
	}
	if len(f.seen) == mostSeen { // numbers that follow each other need few: this file was made to do harm
		clear(f.seen)
	}
	f.seen[number/64] |= bit
	start := len(f.lines)
	var ok bool
	if len(f.lines) < mostLines {
		f.lines, ok = f.binary.write(f.lines, f.chunk, at+recordHead, at+size-4)
	}
	if !ok || !isOf(f.lines[start:], number) {
		f.lines = f.lines[:start]
		f.sayf("event %d, at byte %d of the event file, is damaged", number, chunk+int64(at))
		return
	}
	f.lines = append(f.lines, '\n')
}

// isOf tells whether an event has the number of its record.
func isOf(xml []byte, number uint64) bool {
	_, behind, has := bytes.Cut(xml, []byte("<EventRecordID>"))
	own, _, _ := bytes.Cut(behind, []byte{'<'})
	return !has || string(own) == strconv.FormatUint(number, 10)
}

// sayf adds an event of our own, a warning.
func (f *FileReader) sayf(format string, values ...any) {
	f.lines = append(f.lines, "<Event><System><Provider Name='event file'/><Level>3</Level></System><RenderingInfo><Message>"...)
	f.lines = append(fmt.Appendf(f.lines, format, values...), "</Message></RenderingInfo></Event>\n"...)
}

// nextRecord returns where the next event begins, or the end.
func nextRecord(chunk []byte, from int) int {
	for at := from; at+recordHead <= len(chunk); at++ {
		if le.Uint32(chunk[at:]) == recordMark {
			return at
		}
	}
	return len(chunk)
}

func isEmpty(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}
