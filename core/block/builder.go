package block

import (
	"bytes"
	"encoding/binary"
	"iter"
	"slices"
	"strconv"
	"sync"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/record"
)

// Builder makes a block. The zero Builder is ready, and is used again after
// Finish. It is not safe for concurrent use.
type Builder struct {
	count       int
	first, last uint64
	times, got  []record.Stamp
	columns     [columns][]byte
	short       map[uint64]uint64 // words of the list by their bytes and length
	long        map[string]uint64
	recent      [peers - hosts + 1][slots]word // of each column that points into the list
	shaper      shaper
	scratch     []byte
}

// Len returns how many records were added.
func (b *Builder) Len() int { return b.count }

// Size returns how many bytes the body has so far, uncompressed, about.
func (b *Builder) Size() (n int) {
	n = len(b.times) * stampSize
	for i := range b.columns {
		n += len(b.columns[i])
	}
	return n
}

// Add adds a record under its number in the feed, which must be above the one
// before. Nothing of r is kept.
func (b *Builder) Add(number uint64, r *record.Record) {
	if b.count == 0 {
		b.first, b.last = number, number-1
		if b.short == nil {
			b.short, b.long = map[uint64]uint64{}, map[string]uint64{}
		}
	}
	b.count++
	c := &b.columns
	c[numbers] = appendUvarint(c[numbers], number-b.last-1)
	b.last = number
	b.times, b.got = append(b.times, r.Time), append(b.got, r.Received)
	c[priorities] = append(c[priorities], byte(r.Priority))
	c[flags] = append(c[flags], flagsOf(r))
	b.addWord(hosts, r.Host)
	b.addWord(apps, r.App)
	b.addWord(procIDs, r.ProcID)
	b.addWord(msgIDs, r.MsgID)
	b.scratch = append(b.scratch[:0], r.Intake...)
	b.addWord(intakes, present(b.scratch, r.Intake != ""))
	b.scratch = appendPeer(b.scratch[:0], r.Peer)
	b.addWord(peers, present(b.scratch, r.Peer != nil))
	b.addText(texts, r.Text)
	b.addText(data, r.Data)
	b.addText(raws, r.Raw)
}

func present(v []byte, there bool) []byte {
	if !there {
		return nil
	}
	return v
}

func flagsOf(r *record.Record) byte {
	m := byte(r.Stream)
	if r.Unparsed {
		m |= flagUnparsed
	}
	if r.Cut {
		m |= flagCut
	}
	return m
}

func appendPeer(dst []byte, p *record.Peer) []byte {
	switch {
	case p == nil:
		return dst
	case p.Addr.IsValid():
		return p.Addr.AppendTo(dst)
	}
	dst = strconv.AppendInt(append(dst, "pid "...), int64(p.PID), 10)
	dst = strconv.AppendUint(append(dst, ' '), uint64(p.UID), 10)
	return strconv.AppendUint(append(dst, ' '), uint64(p.GID), 10)
}

// word is a word of the list that was added lately, and its place there; 0 for none.
type word struct {
	value []byte
	at    uint64
}

const slots = 16 // for longer words that came lately, by their length

func (b *Builder) addWord(column int, v []byte) {
	at := uint64(0)
	switch {
	case v == nil:
	case len(v) < 8:
		at = b.placeOfShort(v)
	default:
		at = b.placeOfLong(v, &b.recent[column-hosts][len(v)%slots])
	}
	b.columns[column] = appendUvarint(b.columns[column], at)
}

// placeOfShort returns the place of a word of up to 7 bytes in the list.
func (b *Builder) placeOfShort(v []byte) uint64 {
	key, n := uint64(len(v))<<56, len(v)
	if n >= 4 {
		key |= uint64(binary.LittleEndian.Uint32(v)) | uint64(binary.LittleEndian.Uint32(v[n-4:]))<<(8*(n-4))
	} else if n > 0 {
		key |= uint64(v[0]) | uint64(v[n/2])<<(8*(n/2)) | uint64(v[n-1])<<(8*(n-1))
	}
	at, known := b.short[key]
	if !known {
		at = b.addToList(v)
		b.short[key] = at
	}
	return at
}

// placeOfLong is the same for longer ones.
func (b *Builder) placeOfLong(v []byte, w *word) uint64 {
	if w.at > 0 && bytes.Equal(w.value, v) {
		return w.at
	}
	at, known := b.long[string(v)]
	if !known {
		at = b.addToList(v)
		b.long[string(v)] = at
	}
	w.value, w.at = append(w.value[:0], v...), at
	return at
}

func (b *Builder) addToList(v []byte) (at uint64) {
	b.columns[words] = append(appendUvarint(b.columns[words], uint64(len(v))), v...)
	return uint64(len(b.short)+len(b.long)) + 1
}

func (b *Builder) addText(column int, v []byte) {
	if v == nil {
		b.columns[column] = append(b.columns[column], 0)
		return
	}
	b.columns[column] = appendUvarint(b.columns[column], uint64(len(v))+1)
	b.columns[column+1] = append(b.columns[column+1], v...)
}

// windowSize is how far back texts are looked for that come again, in bytes. The
// encoder keeps twice as much, for good.
const windowSize = 1 << 20

var encoder = sync.OnceValue(func() *zstd.Encoder {
	// With texts held by their shapes more effort finds little more to save.
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(windowSize))
	if err != nil {
		panic(err) // the options are constant
	}
	return e
})

const stampSize = 6 // bytes of both times of a record, about

// Finish appends the block to dst, compressed, and makes the builder empty. It
// takes longer than all calls of Add together.
func (b *Builder) Finish(dst []byte) []byte {
	for _, column := range []int{texts, data, raws} {
		b.finishTexts(column)
	}
	c := &b.columns
	c[times], c[zones] = appendStamps(c[times], b.times), appendZones(c[zones], b.times)
	c[receipts], c[receiptZones] = appendStamps(c[receipts], b.got), appendZones(c[receiptZones], b.got)
	b.times, b.got = b.times[:0], b.got[:0]
	body := append(make([]byte, 0, b.Size()+columns*4+32), version)
	body = binary.AppendUvarint(body, uint64(b.count))
	body = binary.AppendUvarint(body, b.first)
	for i := range b.columns {
		body = binary.AppendUvarint(body, uint64(len(b.columns[i])))
		body = append(body, b.columns[i]...)
		b.columns[i] = b.columns[i][:0]
	}
	clear(b.short)
	clear(b.long)
	for i := range b.recent {
		for k := range b.recent[i] {
			b.recent[i][k].at = 0
		}
	}
	b.count = 0
	return encoder().EncodeAll(body, dst)
}

// eachText gives the texts of a plain column, whose lengths are well formed, and
// whether each is there.
func eachText(lengths, bytes []byte) iter.Seq2[bool, []byte] {
	return func(yield func(bool, []byte) bool) {
		for len(lengths) > 0 {
			size, n := uvarint(lengths)
			lengths = lengths[n:]
			text := bytes[:max(size, 1)-1]
			bytes = bytes[len(text):]
			if !yield(size > 0, text) {
				return
			}
		}
	}
}

// finishTexts holds a column of texts by their shapes, where that is smaller.
func (b *Builder) finishTexts(column int) {
	s := &b.shaper
	lengths, bytes := b.columns[column], b.columns[column+1]
	plain := len(lengths) + len(bytes)
	for there, text := range eachText(lengths, bytes) {
		if s.over {
			break
		}
		if there {
			s.add(text)
		} else {
			s.addMissing()
		}
	}
	if !s.over && s.size() < plain*9/10 {
		b.columns[column], b.columns[column+1] = s.append(b.columns[column][:0], b.columns[column+1][:0])
	} else {
		b.columns[column] = slices.Insert(b.columns[column], 0, plainTexts)
	}
	s.reset()
}
