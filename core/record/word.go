package record

import (
	"unicode"
	"unicode/utf8"
)

// LowerASCII gives for each byte the one that stands for both letter cases.
var LowerASCII = func() (t [256]byte) {
	for i := range t {
		t[i] = byte(i)
		if c := byte(i); c-'A' < 26 {
			t[i] = c + 'a' - 'A'
		}
	}
	return
}()

// FoldRune returns one character for all that differ only in letter case.
func FoldRune(r rune) rune {
	if r < utf8.RuneSelf {
		return rune(LowerASCII[r])
	}
	least := r
	for other := unicode.SimpleFold(r); other != r; other = unicode.SimpleFold(other) {
		least = min(least, other)
	}
	if least < utf8.RuneSelf {
		return rune(LowerASCII[least])
	}
	return least
}

// Alphanumeric tells whether r is a letter or a digit, of which words are
// made. utf8.RuneError, which decoding gives where nothing is, is neither.
func Alphanumeric(r rune) bool {
	if r < utf8.RuneSelf {
		return r-'0' <= 9 && r >= '0' || LowerASCII[r] >= 'a' && LowerASCII[r] <= 'z'
	}
	return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

// wordASCII gives for each byte of a word the one that stands for both letter
// cases, and 0 for other bytes.
var wordASCII = func() (t [utf8.RuneSelf]byte) {
	for i := range t {
		if Alphanumeric(rune(i)) {
			t[i] = LowerASCII[i]
		}
	}
	return
}()

// EachWord calls f with the place and the hash of every word in text: letters
// and digits with none directly before or after them.
func EachWord(text []byte, f func(start, end int, hash uint64)) {
	for i := 0; i < len(text); {
		start, h := i, hash(0)
		for i < len(text) {
			c, size := rune(text[i]), 1
			if c < utf8.RuneSelf {
				c = rune(wordASCII[c])
			} else {
				c, size = wordRune(text[i:])
			}
			if c == 0 {
				break
			}
			h = h.add(c)
			i += size
		}
		if i > start {
			f(start, i, h.sum())
		}
		for i < len(text) && text[i] < utf8.RuneSelf && wordASCII[text[i]] == 0 {
			i++
		}
		if i < len(text) && text[i] >= utf8.RuneSelf {
			if c, size := wordRune(text[i:]); c == 0 {
				i += size
			}
		}
	}
}

// wordRune decodes a character of a word, folded; others are 0.
func wordRune(text []byte) (c rune, size int) {
	c, size = utf8.DecodeRune(text)
	if !Alphanumeric(c) {
		return 0, size
	}
	return FoldRune(c), size
}

// FoldedHash returns a hash of text, the same for both letter cases; of a word
// it is the one that EachWord gives.
func FoldedHash(text []byte) uint64 {
	var h hash
	for i := 0; i < len(text); {
		c, size := rune(LowerASCII[text[i]]), 1
		if c >= utf8.RuneSelf {
			c, size = utf8.DecodeRune(text[i:])
			c = FoldRune(c)
		}
		h = h.add(c)
		i += size
	}
	return h.sum()
}

// hash is one of characters, under way. It is kept in databases: it must not change.
type hash uint64

// add returns the hash with one character more, which is folded.
func (h hash) add(c rune) hash { return (h ^ hash(c) ^ 0x9e3779b97f4a7c15) * 0x100000001b3 }

// sum returns the hash with its bits mixed.
func (h hash) sum() uint64 {
	x := uint64(h)
	x = (x ^ x>>33) * 0xff51afd7ed558ccd
	x = (x ^ x>>33) * 0xc4ceb9fe1a85ec53
	return x ^ x>>33
}
