package route

import (
	"encoding/binary"
	"slices"
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
		for offset := range l.step {
			h := gramHash(uint32(word[offset]) | uint32(word[offset+1])<<8 | uint32(word[offset+2])<<16)
			l.entries = append(l.entries, literal{word, offset, rules, l.heads[h]})
			l.heads[h] = uint16(len(l.entries))
		}
	}
	return l
}

// gramHash returns the bucket of three bytes whose case bits are set.
func gramHash(gram uint32) uint32 { return gram * 0x9e3779b1 >> (32 - 12) }

// find appends the rules one of whose words may stand in text, ascending, each once.
func (l *literals) find(found []int32, text []byte) []int32 {
	at := 0
	for ; at+4 <= len(text); at += l.step {
		gram := binary.LittleEndian.Uint32(text[at:])&0xffffff | caseBit*0x010101
		if head := l.heads[gramHash(gram)]; head != 0 {
			found = l.check(found, text, at, head)
		}
	}
	if at+gramSize == len(text) {
		gram := uint32(text[at]) | uint32(text[at+1])<<8 | uint32(text[at+2])<<16 | caseBit*0x010101
		if head := l.heads[gramHash(gram)]; head != 0 {
			found = l.check(found, text, at, head)
		}
	}
	return found
}

// check adds the rules of the words that stand around a place.
func (l *literals) check(found []int32, text []byte, at int, head uint16) []int32 {
	for head != 0 {
		e := &l.entries[head-1]
		head = e.next
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
