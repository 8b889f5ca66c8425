package route

import (
	"encoding/binary"
	"slices"
	"strings"
)

// literals finds with one pass over a text which of many words it may hold,
// whatever their letter case. It looks at three bytes at every few places: so
// few that each word covers one of them. Bytes are compared without the bit
// that tells letter cases apart, so that a little more is found than there is.
type literals struct {
	step    int             // from place to place
	heads   [buckets]uint16 // of each hash of three bytes: the first entry, and 1; 0 for none
	entries []literal
}

// literal is a word by three of its bytes.
type literal struct {
	word   []byte // with caseBit set in each byte
	offset int    // of the three bytes
	want   uint64 // up to eight bytes of the word from there on
	mask   uint64 // of the bytes that want has
	rules  []int32
	next   uint16 // the next entry with this hash, and 1
}

const (
	buckets  = 1 << 12
	gramSize = 3 // the least length of a word, in bytes
	caseBit  = 0x20
	mostStep = 4
)

// newLiterals returns what finds the words, and with each its rules.
func newLiterals(words map[string][]int32) *literals {
	l := &literals{step: mostStep}
	for w := range words {
		l.step = min(l.step, len(w)-gramSize+1)
	}
	for w, rules := range words {
		word := []byte(w)
		for i := range word {
			word[i] |= caseBit
		}
		rarest := rarestPlace(word, l.step)
		for offset := rarest; offset < rarest+l.step; offset++ {
			h := gramHash(uint32(word[offset]) | uint32(word[offset+1])<<8 | uint32(word[offset+2])<<16)
			want, mask := firstEight(word[offset:])
			l.entries = append(l.entries, literal{word, offset, want, mask, rules, l.heads[h]})
			l.heads[h] = uint16(len(l.entries))
		}
	}
	return l
}

// firstEight returns the first eight bytes of a word, or what it has of them,
// and which these are.
func firstEight(word []byte) (want, mask uint64) {
	for i, c := range word[:min(8, len(word))] {
		want |= uint64(c) << (8 * i)
		mask |= 0xff << (8 * i)
	}
	return want, mask
}

// common are the characters that texts have most often, the most common first.
const common = " etaoinsrhld1203.:-"

// rarestPlace returns the offset in word whose step groups of three bytes are
// likely to be the rarest in a text.
func rarestPlace(word []byte, step int) (offset int) {
	least := 0
	for i := 0; i+step+gramSize-1 <= len(word) && (i == 0 || i+step+8 <= len(word)); i++ { // with eight bytes behind it to compare
		weight := 0
		for _, c := range word[i : i+step+gramSize-1] {
			if rank := strings.IndexByte(common, c); rank >= 0 {
				weight += len(common) - rank
			}
		}
		if i == 0 || weight < least {
			offset, least = i, weight
		}
	}
	return offset
}

// gramHash returns the bucket of the lower three bytes of gram, whose case bits are set.
func gramHash(gram uint32) uint32 { return (gram << 8) * 0x9e3779b1 >> (32 - 12) }

// find appends the rules one of whose words may stand in text, ascending, each once.
func (l *literals) find(found []int32, text []byte) []int32 {
	at, step := 0, l.step
	if step == 2 {
		found, at = l.findByTwos(found, text)
	}
	// Four places at a time, of which most often none has anything.
	for shift := uint(8 * step); at+2*step+8 <= len(text); at += 4 * step {
		first := binary.LittleEndian.Uint64(text[at:]) | caseBit*0x0101010101010101
		second := binary.LittleEndian.Uint64(text[at+2*step:]) | caseBit*0x0101010101010101
		a, b := l.heads[gramHash(uint32(first))], l.heads[gramHash(uint32(first>>(shift&63)))]
		c, d := l.heads[gramHash(uint32(second))], l.heads[gramHash(uint32(second>>(shift&63)))]
		if a|b|c|d == 0 {
			continue
		}
		for i, head := range [...]uint16{a, b, c, d} {
			if head != 0 {
				found = l.check(found, text, at+i*step, head)
			}
		}
	}
	for ; at+4 <= len(text); at += step {
		found = l.check(found, text, at, l.head(binary.LittleEndian.Uint32(text[at:])))
	}
	if at+gramSize == len(text) {
		found = l.check(found, text, at, l.head(uint32(text[at])|uint32(text[at+1])<<8|uint32(text[at+2])<<16))
	}
	return found
}

// findByTwos does what find does where each second place is looked at, which words
// of four letters ask for, up to the place that it returns: six places at a time,
// by shifts that the compiler knows.
func (l *literals) findByTwos(found []int32, text []byte) ([]int32, int) {
	at := 0
	for ; at+14 <= len(text); at += 12 {
		first := binary.LittleEndian.Uint64(text[at:]) | caseBit*0x0101010101010101
		second := binary.LittleEndian.Uint64(text[at+6:]) | caseBit*0x0101010101010101
		a, b, c := l.heads[gramHash(uint32(first))], l.heads[gramHash(uint32(first>>16))], l.heads[gramHash(uint32(first>>32))]
		d, e, f := l.heads[gramHash(uint32(second))], l.heads[gramHash(uint32(second>>16))], l.heads[gramHash(uint32(second>>32))]
		if a|b|c|d|e|f == 0 {
			continue
		}
		for i, head := range [...]uint16{a, b, c, d, e, f} {
			if head != 0 {
				found = l.check(found, text, at+2*i, head)
			}
		}
	}
	return found, at
}

// head returns the first entry for the lower three bytes of gram.
func (l *literals) head(gram uint32) uint16 {
	return l.heads[gramHash(gram|caseBit*0x010101)]
}

// check adds the rules of the words that stand around a place.
func (l *literals) check(found []int32, text []byte, at int, head uint16) []int32 {
	eight, whole := uint64(0), at+8 <= len(text)
	if whole {
		eight = binary.LittleEndian.Uint64(text[at:]) | caseBit*0x0101010101010101
	}
	for head != 0 {
		e := &l.entries[head-1]
		head = e.next
		if whole && eight&e.mask != e.want {
			continue
		}
		if start := at - e.offset; start < 0 || !e.standsAt(text[start:]) {
			continue
		}
		for _, r := range e.rules {
			if i, known := slices.BinarySearch(found, r); !known {
				found = slices.Insert(found, i, r)
			}
		}
	}
	return found
}

func (e *literal) standsAt(text []byte) bool {
	if len(text) < len(e.word) {
		return false
	}
	for i, c := range e.word {
		if text[i]|caseBit != c {
			return false
		}
	}
	return true
}
