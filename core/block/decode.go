package block

import (
	"bytes"
	"encoding/binary"
	"sync"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/record"
)

// Block is a block unpacked. It is not safe for concurrent use.
type Block struct {
	header  Header
	version byte
	body    int // bytes
	columns [columns][]byte
	held    [columns]shapedColumn // columns of texts that are held by shapes
	from    int                   // the first record whose texts are written
	list    [][]byte

	// What is found when the columns are checked.
	runs            []run // nil before
	indexed         bool  // runs know where they begin
	times, receipts []record.Stamp
	peer            map[uint64]*record.Peer

	cursor          // where the reading of records is
	intake struct { // of the last record, which is most often that of the next
		at   uint64
		name string
	}
}

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
	b, err := Open(compressed)
	if err == nil {
		err = b.ReadyFrom(0)
	}
	if err != nil {
		return nil, err
	}
	b.readHeader()
	return b, nil
}

// Index is Decode, and returns the filter of the block's words beside.
func Index(compressed []byte) (*Block, Words, error) {
	filter := newFilterBuilder()
	b, err := Open(compressed)
	if err == nil {
		err = b.write(0, filter)
	}
	if err == nil {
		err = b.index()
	}
	if err != nil {
		return nil, nil, err
	}
	b.readHeader()
	for _, column := range []int{texts, data} {
		if b.held[column].ids == nil {
			filter.addColumn(b.columns[column], b.columns[column+1])
		}
	}
	for p := Host; p <= MsgID; p++ {
		filter.addValues(p, b.columns[hosts+int(p)], b.list)
	}
	if bytes.IndexByte(b.columns[dataBytes], '\\') >= 0 {
		err = b.Each(func(_ uint64, r *record.Record) bool { filter.addEscaped(r); return true })
	}
	return b, filter.finish(), err
}

// Open unpacks a block that was checked before, and has no header: what is
// wrong with it is found when its records are read.
func Open(compressed []byte) (*Block, error) {
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	size, err := sizeOf(compressed)
	if err != nil {
		return nil, err
	}
	body, err := d.DecodeAll(compressed, nil)
	if err != nil {
		return nil, damaged(err.Error())
	}
	if len(body) > size {
		return nil, damaged("it unpacks to more than it says")
	}
	b := &Block{body: len(body)}
	return b, b.split(body)
}

// sizeOf returns how many bytes a block says that it unpacks to, at most: one that does
// not say it has less than 256 (RFC 8878, section 3.1.1.1.4). One that says more than a
// block may have is damaged.
func sizeOf(compressed []byte) (int, error) {
	var h zstd.Header
	err := h.Decode(compressed)
	switch {
	case err != nil:
		return 0, damaged(err.Error())
	case !h.HasFCS && len(compressed) < 1<<10:
		return 255, nil
	case !h.HasFCS || h.FrameContentSize > MaxBody:
		return 0, damaged("its size")
	}
	return int(h.FrameContentSize), nil
}

func (b *Block) split(body []byte) error {
	if len(body) == 0 || body[0] < firstVersion || body[0] > version {
		return damaged("its version is not known")
	}
	b.version = body[0]
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
		if i == receiptZones && b.version < version {
			break
		}
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
		if b.version == firstVersion {
			break
		}
		if !b.splitTexts(column) {
			return damaged("how its texts are held")
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

// splitTexts takes the byte off a column of texts that tells how it is held.
func (b *Block) splitTexts(column int) bool {
	how := b.columns[column]
	if len(how) == 0 || how[0] > shapedTexts {
		return false
	}
	b.columns[column] = how[1:]
	if how[0] == shapedTexts {
		b.held[column] = shapedColumn{how[1:], b.columns[column+1]}
		b.columns[column], b.columns[column+1] = nil, nil
		b.from = b.header.Records // nothing is written
	}
	return true
}

// write makes the columns of texts plain, from a record on; those before are
// missing. Their words go into the filter, where there is one.
func (b *Block) write(from int, filter *filterBuilder) (err error) {
	most := MaxBody
	for _, column := range []int{texts, data, raws} {
		if b.held[column].ids == nil {
			continue
		}
		if column == raws {
			filter = nil // nobody asks which words they have
		}
		if b.columns[column], b.columns[column+1], err = b.held[column].texts(from, most, filter); err != nil {
			return err
		}
		most -= len(b.columns[column+1])
	}
	b.from, b.indexed = from, false
	return nil
}

// writeFrom writes the texts from a record on, unless they are written.
func (b *Block) writeFrom(from int) error {
	switch {
	case b.from <= from:
		return nil
	case b.from < b.header.Records: // those before have been passed over
		from = 0
	}
	return b.write(from, nil)
}

// Each calls f with every record in the order of their numbers, until f
// returns false. The record and its slices are valid until f returns. An error
// says that the block is damaged; Decode leaves none to be found.
func (b *Block) Each(f func(number uint64, r *record.Record) bool) error {
	if err := b.ReadyFrom(0); err != nil {
		return err
	}
	for i := range b.runs {
		if !b.EachIn(i, true, f) {
			return nil
		}
	}
	return nil
}

// Run is what is known of a part of a block, records that follow each other:
// how many, and the least and the greatest of their times.
type Run struct {
	Records     int
	First, Last record.Stamp
}

// Runs returns the runs of the block. An error is as one of Each.
func (b *Block) Runs() ([]Run, error) {
	if err := b.readTimes(); err != nil {
		return nil, err
	}
	runs := make([]Run, len(b.runs))
	for i := range b.runs {
		runs[i] = b.runs[i].Run
	}
	return runs, nil
}

// ReadyFrom makes a run, and those behind it, ready to be read by
// [Block.EachIn]. Those before cost little. An error is as one of Each.
func (b *Block) ReadyFrom(run int) error {
	if err := b.writeFrom(run * runLength); err != nil {
		return err
	}
	return b.index()
}

// EachIn is Each for the records of a run alone. It returns false where f did.
// Without names, which is quicker, the records have no host, app, process and
// message id, intake and peer.
func (b *Block) EachIn(run int, names bool, f func(number uint64, r *record.Record) bool) bool {
	b.cursor = b.runs[run].cursor
	var r record.Record
	for range b.runs[run].Records {
		if number := b.read(&r, names); !f(number, &r) {
			return false
		}
	}
	return true
}

// Size returns how many bytes of memory the block takes, about.
func (b *Block) Size() int {
	written, _ := b.written()
	return b.body + written + len(b.times)*stampBytes + len(b.receipts)*stampBytes
}

// written returns how many bytes of texts were written, and how many they are by their shapes.
func (b *Block) written() (plain, shaped int) {
	for column, held := range b.held {
		if held.ids != nil {
			plain += len(b.columns[column]) + len(b.columns[column+1])
			shaped += len(held.ids) + len(held.bytes)
		}
	}
	return plain, shaped
}

const stampBytes = 16 // of a stamp in memory

// EachTime calls f with the time and the priority of every record, in the order
// of their numbers. An error is as one of Each.
func (b *Block) EachTime(f func(t record.Stamp, p record.Priority)) error {
	if err := b.readTimes(); err != nil {
		return err
	}
	for i, t := range b.times {
		f(t, record.Priority(b.columns[priorities][i]))
	}
	return nil
}

// LongestText returns the bytes of the longest text, structured data or raw message of
// a block that Decode or Index gave.
func (b *Block) LongestText() (longest int) {
	for _, column := range []int{texts, data, raws} {
		for lengths := b.columns[column]; len(lengths) > 0; {
			size, n := binary.Uvarint(lengths)
			longest = max(longest, int(size)-1)
			lengths = lengths[max(1, n):]
		}
	}
	return longest
}

// Texts returns the texts of all records, end to end. They are the block's own.
// An error is as one of Each.
func (b *Block) Texts() ([]byte, error) {
	err := b.writeFrom(0)
	return b.columns[textBytes], err
}

// read reads the next record, with names or without; for a whole run the same.
func (b *Block) read(r *record.Record, names bool) (number uint64) {
	r.Reset()
	r.Time, r.Received = b.times[b.next], b.receipts[b.next]
	r.Priority = record.Priority(b.columns[priorities][b.next])
	m := b.columns[flags][b.next]
	r.Stream, r.Unparsed, r.Cut = record.Stream(m&3), m&flagUnparsed != 0, m&flagCut != 0
	if names {
		r.Host, r.App, r.ProcID, r.MsgID = b.word(b.uvarint(hosts)), b.word(b.uvarint(apps)), b.word(b.uvarint(procIDs)), b.word(b.uvarint(msgIDs))
		r.Intake, r.Peer = b.intakeAt(b.uvarint(intakes)), b.peer[b.uvarint(peers)]
	}
	r.Text, r.Data, r.Raw = b.text(texts), b.text(data), b.text(raws)
	b.next++
	b.number += b.uvarint(numbers) + 1
	return b.number
}

// word returns a word of the list, nil for place 0.
func (b *Block) word(at uint64) []byte {
	if at == 0 {
		return nil
	}
	return b.list[at-1]
}

func (b *Block) intakeAt(at uint64) string {
	if b.intake.at != at || at == 0 {
		b.intake.at, b.intake.name = at, string(b.word(at))
	}
	return b.intake.name
}

// uvarint reads the next number of a column.
func (b *Block) uvarint(column int) uint64 {
	v, n := uvarint(b.left[column])
	b.left[column] = b.left[column][n:]
	return v
}

// text returns the next text of a column, nil where it is missing.
func (b *Block) text(column int) []byte {
	size := b.uvarint(column)
	if size == 0 {
		return nil
	}
	n := int(size - 1)
	v := b.left[column+1][:n:n]
	b.left[column+1] = b.left[column+1][n:]
	return v
}
