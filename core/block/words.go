package block

import (
	"encoding/binary"
	"math/bits"

	"oakbarrel/core/record"
)

// Words is a filter that tells which words records surely have not: those of
// texts and fields, and the whole values of short properties. It is a byte
// with its version, and cells of 64 bits, least byte first; each word sets one
// bit in each of four cells that stand together. The number of cells is a power
// of two, so that a filter can be halved by laying its halves over each other.
type Words []byte

const (
	wordsVersion = 2
	firstWords   = 1        // in which a word set its bits in one cell; such filters are read still
	group        = 4        // cells of a word
	maxCells     = 16 << 10 // 128 KiB; with very many words it tells less
	minCells     = 8
)

// WordsBuilder makes a filter. The zero WordsBuilder is ready. It is not safe
// for concurrent use.
type WordsBuilder struct {
	cells []uint64
	set   func(start, end int, hash uint64)
}

// Add adds the words of a record.
func (b *WordsBuilder) Add(r *record.Record) {
	if b.cells == nil {
		b.cells = make([]uint64, maxCells)
		b.set = func(_, _ int, hash uint64) {
			cells := b.cells[hash>>32%(maxCells/group)*group:][:group]
			for i := range cells {
				cells[i] |= 1 << (hash >> (6 * i) & 63)
			}
		}
	}
	record.EachWord(r.Text, b.set)
	r.EachFieldWord(b.set)
	for i, v := range [...][]byte{r.Host, r.App, r.ProcID, r.MsgID} {
		if v != nil {
			b.set(0, len(v), valueHash(Property(i), v))
		}
	}
}

// Finish returns the filter, halved as long as less than half of its bits are set.
func (b *WordsBuilder) Finish() Words {
	cells := b.cells
	for half := len(cells) / 2; half >= minCells; half = len(cells) / 2 {
		set := 0
		for i := range half {
			set += bits.OnesCount64(cells[i] | cells[half+i])
		}
		if set > half*64/2 {
			break
		}
		for i := range half {
			cells[i] |= cells[half+i]
		}
		cells = cells[:half]
	}
	w := Words{wordsVersion}
	for _, cell := range cells {
		w = binary.LittleEndian.AppendUint64(w, cell)
	}
	return w
}

// HasWord tells whether a record may have the word with the hash that
// [record.EachWord] gave, in its text or a field. A filter that is not known
// rules nothing out.
func (w Words) HasWord(hash uint64) bool {
	cells := len(w) / 8
	if cells < minCells || w[0] != wordsVersion && w[0] != firstWords || len(w) != 1+8*cells || cells&(cells-1) != 0 {
		return true
	}
	at := func(cell int) uint64 { return binary.LittleEndian.Uint64(w[1+8*cell:]) }
	if w[0] == firstWords {
		bits := uint64(1)<<(hash&63) | 1<<(hash>>6&63) | 1<<(hash>>12&63) | 1<<(hash>>18&63)
		return at(int(hash>>32)&(cells-1))&bits == bits
	}
	first := (int(hash>>32) & (cells/group - 1)) * group
	for i := range group {
		if at(first+i)>>(hash>>(6*i)&63)&1 == 0 {
			return false
		}
	}
	return true
}

// Property names a property whose whole value is in a filter.
type Property uint8

// The properties whose values are in a filter.
const (
	Host Property = iota
	App
	ProcID
	MsgID
)

func valueHash(p Property, v []byte) uint64 {
	return record.FoldedHash(v) ^ (uint64(p)+1)*0x9e3779b97f4a7c15
}

// HasValue tells whether a property of a record may have the value, in any letter case.
func (w Words) HasValue(p Property, v []byte) bool { return w.HasWord(valueHash(p, v)) }
