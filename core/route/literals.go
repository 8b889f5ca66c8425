package route

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"maps"
	"slices"
	"strings"
)

// literals finds with one pass over a text which of many words it may hold,
// letter case ignored. It looks at three bytes at every few places: so
// few that each word covers one of them. Bytes are compared without the bit
// that tells letter cases apart, so that a little more is found than there is.
type literals struct {
	alone   []literal       // the shortest, which are looked for one by one, so that step can be larger
	step    int             // from place to place
	heads   [buckets]uint16 // of each hash of three bytes: the first entry, and 1; 0 for none
	entries []literal
}

// literal is a word by three of its bytes.
type literal struct {
	word   []byte // with caseBit set in each byte, but of one alone
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

// word is a text that a rule is about, in lower case where letter case is ignored.
type word struct {
	text string
	fold bool
}

// What finding costs, in about nanoseconds: a text of usual length at each
// place, and once for a word alone.
const (
	costPlaces = 180
	costAlone  = 12
	mostAlone  = 4
)

// newLiterals returns what finds the words, and with each its rules.
func newLiterals(words map[word][]int32) *literals {
	l := &literals{}
	order := slices.SortedFunc(maps.Keys(words), func(a, b word) int {
		return cmp.Or(len(a.text)-len(b.text), strings.Compare(a.text, b.text))
	})
	alone, least := 0, 0
	for n := 0; n <= min(len(order), mostAlone) && (n == 0 || !order[n-1].fold); n++ {
		step, cost := stepOf(order[n:]), n*costAlone
		if n < len(order) {
			cost += costPlaces / step
		}
		if n == 0 || cost < least {
			alone, least, l.step = n, cost, step
		}
	}
	for _, w := range order[:alone] {
		l.alone = append(l.alone, literal{word: []byte(w.text), rules: words[w]})
	}
	for _, w := range order[alone:] {
		l.add(w.text, words[w])
	}
	return l
}

// stepOf returns how far places may lie apart where each of the words, the
// shortest first, is to cover one.
func stepOf(order []word) int {
	if len(order) == 0 {
		return mostStep
	}
	return min(mostStep, len(order[0].text)-gramSize+1)
}

// add adds a word to the entries.
func (l *literals) add(text string, rules []int32) {
	word := []byte(text)
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
	for i := range l.alone {
		if bytes.Contains(text, l.alone[i].word) {
			found = l.alone[i].into(found)
		}
	}
	if len(l.entries) == 0 {
		return found
	}
	at, step := 0, l.step
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
		found = e.into(found)
	}
	return found
}

// into adds the rules of the word to those found.
func (e *literal) into(found []int32) []int32 {
	for _, r := range e.rules {
		if i, known := slices.BinarySearch(found, r); !known {
			found = slices.Insert(found, i, r)
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
