package block

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/bits"

	"oakbarrel/core/record"
)

// Words is a filter that tells which words records surely have not: those of
// texts and fields, and the whole values of short properties. It is a byte
// with its version, and groups of four cells of 64 bits, least byte first; each
// word has its group, and sets one bit in each of its cells. The number of
// groups is a part of mostGroups, so that a filter gets smaller by laying its
// parts over each other.
type Words []byte

const (
	wordsVersion = 2
	firstWords   = 1       // in which a word set its bits in one cell; such filters are read still
	group        = 4       // cells of a word
	mostGroups   = 3 << 11 // 192 KiB; with very many words it tells less
	fewestGroups = 2
	fullest      = 0.4 // of the bits of a smaller filter are set, about, at most
)

// filterBuilder makes a filter.
type filterBuilder struct{ cells []uint64 }

func newFilterBuilder() *filterBuilder {
	return &filterBuilder{make([]uint64, mostGroups*group)}
}

// set adds a word by its hash.
func (b *filterBuilder) set(hash uint64) {
	cells := (*[group]uint64)(b.cells[hash>>32%mostGroups*group:])
	for i := range cells {
		cells[i] |= 1 << (hash >> (6 * i) & 63)
	}
}

// addText adds the words of a text.
func (b *filterBuilder) addText(text []byte) {
	record.EachWord(text, func(_, _ int, hash uint64) { b.set(hash) })
}

// addColumn adds the words of a plain column of texts, whose lengths are well formed.
func (b *filterBuilder) addColumn(lengths, texts []byte) {
	for len(lengths) > 0 {
		size, n := binary.Uvarint(lengths)
		lengths = lengths[n:]
		if size > 0 {
			b.addText(texts[:size-1])
			texts = texts[size-1:]
		}
	}
}

// addEscaped adds the words of fields in JSON with escapes, which are not those
// that stand there.
func (b *filterBuilder) addEscaped(r *record.Record) {
	if len(r.Data) > 0 && r.Data[0] == '{' && bytes.IndexByte(r.Data, '\\') >= 0 {
		r.EachFieldWord(func(_, _ int, hash uint64) { b.set(hash) })
	}
}

// addValues adds the values of a property, from its column of places in the
// list, which are well formed.
func (b *filterBuilder) addValues(p Property, column []byte, list [][]byte) {
	seen := make([]bool, len(list)+1)
	seen[0] = true // missing
	for len(column) > 0 {
		at, n := binary.Uvarint(column)
		column = column[n:]
		if !seen[at] {
			seen[at] = true
			b.set(valueHash(p, list[at-1]))
		}
	}
}

// finish returns the filter, as small as it may be.
func (b *filterBuilder) finish() Words {
	cells := b.cells[:group*b.groups()]
	for i, cell := range b.cells[len(cells):] {
		cells[i%len(cells)] |= cell
	}
	w := append(make(Words, 0, 1+8*len(cells)), wordsVersion)
	for _, cell := range cells {
		w = binary.LittleEndian.AppendUint64(w, cell)
	}
	return w
}

// groups returns the smallest number of groups with which the filter is not too full.
func (b *filterBuilder) groups() int {
	set := 0
	for _, cell := range b.cells {
		set += bits.OnesCount64(cell)
	}
	clear := 1 - float64(set)/(64*group*mostGroups)
	for groups := fewestGroups; groups < mostGroups; groups++ {
		if mostGroups%groups == 0 && 1-math.Pow(clear, float64(mostGroups/groups)) <= fullest {
			return groups
		}
	}
	return mostGroups
}

// HasWord tells whether a record may have the word with the hash that
// [record.EachWord] gave, in its text or a field. A filter that is not known
// rules nothing out.
func (w Words) HasWord(hash uint64) bool {
	cells := len(w) / 8
	if cells == 0 || len(w) != 1+8*cells {
		return true
	}
	at := func(cell int) uint64 { return binary.LittleEndian.Uint64(w[1+8*cell:]) }
	switch {
	case w[0] == firstWords && cells&(cells-1) == 0:
		bits := uint64(1)<<(hash&63) | 1<<(hash>>6&63) | 1<<(hash>>12&63) | 1<<(hash>>18&63)
		return at(int(hash>>32)&(cells-1))&bits == bits
	case w[0] != wordsVersion || cells%group != 0:
		return true
	}
	first := int(hash>>32) % (cells / group) * group
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
