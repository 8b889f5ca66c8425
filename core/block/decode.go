package block

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/record"
)

func parsePeer(s string) (*record.Peer, error) {
	p := new(record.Peer)
	if _, err := fmt.Sscanf(s, "pid %d %d %d", &p.PID, &p.UID, &p.GID); err == nil {
		return p, nil
	}
	addr, err := netip.ParseAddrPort(s)
	p.Addr = addr
	return p, err
}

// Block is a block unpacked. It is not safe for concurrent use.
type Block struct {
	header  Header
	columns [columns][]byte
	shaped  [columns]bool // held by shapes before it was unpacked
	list    [][]byte
	intake  map[uint64]string
	peer    map[uint64]*record.Peer

	cursor          // where the reading of records is
	marks  []cursor // where it has been, from markEach records to the next
}

// cursor is a place between two records.
type cursor struct {
	next      int    // how many records are before it
	number    uint64 // of the one before it
	time, got int64  // seconds of that one
	left      [columns][]byte
}

const markEach = 1024 // records

var decoders = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(MaxBody))
	if err != nil {
		panic(err) // the options are constant
	}
	return d
}}

// Decode unpacks a block and checks all of it, so that reading its records
// cannot fail. Nothing is believed that the records do not show.
func Decode(compressed []byte) (*Block, error) {
	b, err := open(compressed, nil)
	if err == nil {
		err = b.check(func(*record.Record) {})
	}
	if err != nil {
		return nil, err
	}
	return b, nil
}

// Index is Decode, and returns the filter of the block's words beside. It calls
// f with every record on the way, in the order of their numbers. The record and
// its slices are valid until f returns. Where an error is returned, what f has
// seen is not to be believed.
func Index(compressed []byte, f func(r *record.Record)) (*Block, Words, error) {
	filter := newFilterBuilder()
	b, err := open(compressed, filter)
	if err == nil {
		err = b.check(func(r *record.Record) {
			filter.addEscaped(r)
			f(r)
		})
	}
	if err != nil {
		return nil, nil, err
	}
	for _, column := range []int{texts, data} {
		if !b.shaped[column] {
			filter.addColumn(b.columns[column], b.columns[column+1])
		}
	}
	for p := Host; p <= MsgID; p++ {
		filter.addValues(p, b.columns[hosts+int(p)], b.list)
	}
	return b, filter.finish(), nil
}

// Open unpacks a block that was checked before, and has no header: what is
// wrong with it is found when its records are read.
func Open(compressed []byte) (*Block, error) { return open(compressed, nil) }

// open unpacks a block. The words of columns that are held by shapes go into
// the filter, where there is one.
func open(compressed []byte, filter *filterBuilder) (*Block, error) {
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	body, err := d.DecodeAll(compressed, nil)
	if err != nil {
		return nil, damaged(err.Error())
	}
	b := &Block{intake: map[uint64]string{}, peer: map[uint64]*record.Peer{}}
	b.header.BodySize = len(body)
	return b, b.split(body, filter)
}

func (b *Block) split(body []byte, filter *filterBuilder) error {
	if len(body) == 0 || body[0] != version && body[0] != firstVersion {
		return damaged("its version is not known")
	}
	shapes := body[0] == version
	body = body[1:]
	count, n := binary.Uvarint(body)
	if n <= 0 || count == 0 || count > MaxRecords {
		return damaged("its number of records")
	}
	body = body[n:]
	first, n := binary.Uvarint(body)
	if n <= 0 || first == 0 {
		return damaged("its first number")
	}
	body = body[n:]
	b.header.Records, b.header.FirstNumber = int(count), first
	for i := range b.columns {
		size, n := binary.Uvarint(body)
		if n <= 0 || size > uint64(len(body)-n) {
			return damaged("a column is cut short")
		}
		b.columns[i] = body[n : n+int(size)]
		body = body[n+int(size):]
	}
	if len(body) > 0 {
		return damaged("something follows it")
	}
	for _, column := range []int{texts, data, raws} {
		if !shapes {
			break
		}
		if err := b.unshape(column, filter); err != nil {
			return err
		}
	}
	for list := b.columns[words]; len(list) > 0; {
		size, n := binary.Uvarint(list)
		if n <= 0 || size > uint64(len(list)-n) {
			return damaged("its list of words")
		}
		b.list = append(b.list, list[n:n+int(size):n+int(size)])
		list = list[n+int(size):]
	}
	return nil
}

// unshape makes a column of texts plain.
func (b *Block) unshape(column int, filter *filterBuilder) (err error) {
	how := b.columns[column]
	if len(how) == 0 || how[0] > shapedTexts {
		return damaged("how its texts are held")
	}
	b.columns[column] = how[1:]
	if how[0] == plainTexts {
		return nil
	}
	if column == raws {
		filter = nil // nobody asks which words they have
	}
	b.shaped[column] = true
	before := len(how) + len(b.columns[column+1])
	b.columns[column], b.columns[column+1], err = unshape(how[1:], b.columns[column+1], MaxBody, filter)
	b.header.BodySize += len(b.columns[column]) + len(b.columns[column+1]) - before
	return err
}

// check walks all columns and fills the header.
func (b *Block) check(f func(r *record.Record)) error {
	h := &b.header
	b.rewind()
	var r record.Record
	for i := range h.Records {
		number, err := b.read(&r)
		if err != nil {
			return err
		}
		h.LastNumber = number
		if i == 0 {
			h.FirstTime, h.LastTime, h.FirstReceived, h.LastReceived = r.Time, r.Time, r.Received, r.Received
		}
		h.FirstTime, h.LastTime = earlier(h.FirstTime, r.Time), later(h.LastTime, r.Time)
		h.FirstReceived, h.LastReceived = earlier(h.FirstReceived, r.Received), later(h.LastReceived, r.Received)
		h.Severities |= 1 << r.Severity()
		h.Facilities |= 1 << r.Facility()
		h.BySeverity[r.Severity()]++
		f(&r)
	}
	for i, rest := range b.left {
		if len(rest) > 0 && i != words {
			return damaged("a column is too long")
		}
	}
	b.rewind()
	return nil
}

func before(a, b record.Stamp) bool { return a.Sec < b.Sec || a.Sec == b.Sec && a.Nsec < b.Nsec }

func earlier(a, b record.Stamp) record.Stamp {
	if before(b, a) {
		return b
	}
	return a
}

func later(a, b record.Stamp) record.Stamp {
	if before(a, b) {
		return b
	}
	return a
}

func (b *Block) rewind() {
	b.cursor = cursor{number: b.header.FirstNumber - 1, left: b.columns}
}

// Each calls f with every record in the order of their numbers, until f
// returns false. The record and its slices are valid until f returns. An error
// says that the block is damaged; Decode leaves none to be found.
func (b *Block) Each(f func(number uint64, r *record.Record) bool) error {
	return b.EachFrom(0, f)
}

// EachFrom is Each from a number on. What was read before is passed over.
func (b *Block) EachFrom(first uint64, f func(number uint64, r *record.Record) bool) error {
	b.seek(first)
	var r record.Record
	for b.next < b.header.Records {
		if b.next == len(b.marks)*markEach {
			b.marks = append(b.marks, b.cursor)
		}
		number, err := b.read(&r)
		if err != nil {
			return err
		}
		if number >= first && !f(number, &r) {
			return nil
		}
	}
	return nil
}

// seek goes to the last mark before a number.
func (b *Block) seek(number uint64) {
	b.rewind()
	i, _ := slices.BinarySearchFunc(b.marks, number, func(m cursor, number uint64) int { return cmp.Compare(m.number, number) })
	if i > 0 {
		b.cursor = b.marks[i-1]
	}
}

// Texts returns the texts of all records, end to end. They are the block's own.
func (b *Block) Texts() []byte { return b.columns[textBytes] }

// read reads the next record.
func (b *Block) read(r *record.Record) (uint64, error) {
	r.Reset()
	step, ok := b.uvarint(numbers)
	if !ok || step > math.MaxUint64-b.number-1 || b.next == 0 && step != 0 {
		return 0, damaged("a number")
	}
	b.next++
	b.number += step + 1
	if !b.readStamp(times, zones, &b.time, &r.Time) || !b.readStamp(receipts, receipts, &b.got, &r.Received) {
		return 0, damaged("a time")
	}
	if len(b.left[priorities]) == 0 || len(b.left[marks]) == 0 || b.left[priorities][0] >= record.Priorities {
		return 0, damaged("a priority")
	}
	r.Priority = record.Priority(b.left[priorities][0])
	m := b.left[marks][0]
	b.left[priorities], b.left[marks] = b.left[priorities][1:], b.left[marks][1:]
	r.Stream, r.Unparsed, r.Cut = record.Stream(m&3), m&markUnparsed != 0, m&markCut != 0
	if m&3 == 3 || m>>4 != 0 {
		return 0, damaged("a mark")
	}
	return b.number, b.readProperties(r)
}

func (b *Block) readProperties(r *record.Record) error {
	var words [6]uint64 // their places in the list
	for i := range words {
		at, ok := b.uvarint(hosts + i)
		if !ok || at > uint64(len(b.list)) {
			return damaged("a word")
		}
		words[i] = at
	}
	r.Host, r.App, r.ProcID, r.MsgID = b.word(words[0]), b.word(words[1]), b.word(words[2]), b.word(words[3])
	r.Intake = b.intakeAt(words[4])
	var ok [4]bool
	r.Peer, ok[0] = b.peerAt(words[5])
	r.Text, ok[1] = b.text(texts)
	r.Data, ok[2] = b.text(data)
	r.Raw, ok[3] = b.text(raws)
	if ok != [4]bool{true, true, true, true} {
		return damaged("a peer or a text")
	}
	if r.Data != nil && !record.ValidData(r.Data) {
		return damaged("structured data")
	}
	return nil
}

// word returns a word of the list, nil for place 0.
func (b *Block) word(at uint64) []byte {
	if at == 0 {
		return nil
	}
	return b.list[at-1]
}

func (b *Block) intakeAt(at uint64) string {
	if _, known := b.intake[at]; !known {
		b.intake[at] = string(b.word(at))
	}
	return b.intake[at]
}

func (b *Block) peerAt(at uint64) (*record.Peer, bool) {
	if at == 0 {
		return nil, true
	}
	if _, known := b.peer[at]; !known {
		p, err := parsePeer(string(b.word(at)))
		if err != nil {
			return nil, false
		}
		b.peer[at] = p
	}
	return b.peer[at], true
}

func (b *Block) uvarint(column int) (uint64, bool) {
	if left := b.left[column]; len(left) > 0 && left[0] < 0x80 { // as most are
		b.left[column] = left[1:]
		return uint64(left[0]), true
	}
	v, n := binary.Uvarint(b.left[column])
	if n <= 0 {
		return 0, false
	}
	b.left[column] = b.left[column][n:]
	return v, true
}

func (b *Block) varint(column int) (int64, bool) {
	v, ok := b.uvarint(column)
	return int64(v>>1) ^ -int64(v&1), ok
}

// maxSecond bounds times to the years that RFC 3339 can write.
const maxSecond = 253402300799 + 86400

func (b *Block) readStamp(column, zoneColumn int, last *int64, s *record.Stamp) bool {
	step, ok1 := b.varint(column)
	nsec, ok2 := b.uvarint(column)
	zone, ok3 := b.varint(zoneColumn)
	*last += step
	s.Sec, s.Nsec, s.Zone, s.Form = *last, int32(nsec), int16(zone>>2), record.Form(zone&3)
	return ok1 && ok2 && ok3 && nsec < 1e9 && zone>>2 > -1440 && zone>>2 < 1440 && *last > -maxSecond && *last < maxSecond
}

// text returns the next text of a column, nil where it is missing.
func (b *Block) text(column int) ([]byte, bool) {
	size, ok := b.uvarint(column)
	if !ok || size > uint64(len(b.left[column+1]))+1 {
		return nil, false
	}
	if size == 0 {
		return nil, true
	}
	n := int(size - 1)
	v := b.left[column+1][:n:n]
	b.left[column+1] = b.left[column+1][n:]
	return v, true
}
