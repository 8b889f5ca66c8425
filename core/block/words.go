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
// word has its group, and sets two bits in each of its cells. The number of
// groups is a part of mostGroups, so that a filter gets smaller by laying its
// parts over each other.
type Words []byte

// WordsVersion is the version of the filters that are made.
const WordsVersion = 3

const (
	oneBitVersion = 2       // in which a word set one bit in each cell; such filters are read still
	group         = 4       // cells of a word
	mostGroups    = 3 << 11 // 192 KiB; with very many words it tells less
	fewestGroups  = 2
	fullest       = 0.5 // of the bits of a smaller filter are set, about, at most
)

// GroupSize is how many bytes of a filter tell of one word. The group of a word
// is the one with the number hash>>32, modulo how many there are; they stand
// behind the first byte, which is the version.
const GroupSize = 8 * group

// bitsOf returns which bits a word has in a cell of its group.
func bitsOf(version byte, hash uint64, cell int) uint64 {
	bits := uint64(1) << (hash >> (6 * cell) & 63)
	if version != oneBitVersion {
		bits |= 1 << (hash >> (40 + 6*cell) & 63)
	}
	return bits
}

// filterBuilder makes a filter.
type filterBuilder struct{ cells []uint64 }

func newFilterBuilder() *filterBuilder {
	return &filterBuilder{make([]uint64, mostGroups*group)}
}

// set adds a word by its hash.
func (b *filterBuilder) set(hash uint64) {
	cells := (*[group]uint64)(b.cells[hash>>32%mostGroups*group:])
	for i := range cells {
		cells[i] |= bitsOf(WordsVersion, hash, i)
	}
}

// addText adds the words of a text.
func (b *filterBuilder) addText(text []byte) {
	record.EachWord(text, func(_, _ int, hash uint64) { b.set(hash) })
}

// addColumn adds the words of a plain column of texts, whose lengths are well formed.
func (b *filterBuilder) addColumn(lengths, texts []byte) {
	for _, text := range eachText(lengths, texts) {
		b.addText(text)
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
		at, n := uvarint(column)
		column = column[n:]
		if !seen[at] {
			seen[at] = true
			b.set(ValueHash(p, list[at-1]))
		}
	}
}

// finish returns the filter, as small as it may be.
func (b *filterBuilder) finish() Words {
	cells := b.cells[:group*b.groups()]
	for i, cell := range b.cells[len(cells):] {
		cells[i%len(cells)] |= cell
	}
	w := append(make(Words, 0, 1+8*len(cells)), WordsVersion)
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

// GroupHasWord tells whether a record may have the word with the hash that
// [record.EachWord] gave, in its text or a field, by the group of the word in a
// filter of a version. A filter that is not known rules nothing out.
func GroupHasWord(version byte, cells []byte, hash uint64) bool {
	if version != WordsVersion && version != oneBitVersion || len(cells) != GroupSize {
		return true
	}
	for i := range group {
		bits := bitsOf(version, hash, i)
		if binary.LittleEndian.Uint64(cells[8*i:])&bits != bits {
			return false
		}
	}
	return true
}

// Has tells whether a record may have the word with a hash, see [GroupHasWord].
func (w Words) Has(hash uint64) bool {
	groups := len(w) / GroupSize
	if groups == 0 || len(w) != 1+GroupSize*groups {
		return true
	}
	return GroupHasWord(w[0], w[1+GroupSize*(hash>>32%uint64(groups)):][:GroupSize], hash)
}

// WordParts is how many parts a large filter is kept in: what is asked of a word
// stands in one of them, and the others need not be read. Part i has the groups
// i, i+WordParts and so on.
const WordParts = 32

const leastApart = 256 // groups of a filter that is kept in parts

// Parts returns the parts of a filter, without its version; nil where it is
// small, or is of no known size.
func (w Words) Parts() [][]byte {
	groups := len(w) / GroupSize
	if groups < leastApart || groups%WordParts != 0 || len(w) != 1+GroupSize*groups {
		return nil
	}
	parts := make([][]byte, WordParts)
	for i := range groups {
		parts[i%WordParts] = append(parts[i%WordParts], w[1+GroupSize*i:][:GroupSize]...)
	}
	return parts
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

// ValueHash returns the hash under which the value of a property is in a
// filter, the same for all letter cases.
func ValueHash(p Property, v []byte) uint64 {
	return record.FoldedHash(v) ^ (uint64(p)+1)*0x9e3779b97f4a7c15
}
