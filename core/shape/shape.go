// Package shape tells of what kind a text is: what is left of its first line once its numbers
// and names are left out.
//
//	Pump P07 stalled: flow=0.3 l/min, id 7f3a9c21
//	Pump P… stalled: flow=… l/min, id …
//
// The shape of a text is the same wherever and whenever it is found: it depends on nothing else.
// The shape of a shape is itself, so that any text of a kind stands for the kind. It knows texts
// and nothing else of the project. Begin with [Append].
package shape

import (
	"bytes"
	"sync"
	"unicode/utf8"
)

// Mark stands in a shape for what is left out.
const Mark = "…"

// Most is how many bytes of a shape there are at most; what is longer is cut.
const Most = 512

// Append appends the shape of a text to dst. It allocates where dst has too little room.
//
// Left out are numbers, ids in hexadecimal and other runs of letters and digits, but for letters
// with digits behind them, of which the letters stay; what joins two of these by - . : or /;
// signs before numbers; and what stands between double quotes, where a quote opens at the start
// of a word.
func Append(dst, text []byte) []byte {
	if end := bytes.IndexByte(text, '\n'); end >= 0 {
		text = text[:end]
	}
	w := writer{dst: dst, start: len(dst)}
	for i := 0; i < len(text) && len(w.dst)-w.start < Most+utf8.UTFMax; {
		switch c := text[i]; {
		case isWord(text, i):
			i = w.word(text, i)
		case c == '"' && opens(text, i):
			i = w.quoted(text, i)
		default:
			w.dst = append(w.dst, c)
			i++
		}
	}
	return w.cut()
}

// Key returns what stands for the shape of a text in a number: never 0. It allocates nothing.
func Key(text []byte) uint64 {
	room := rooms.Get().(*[]byte)
	*room = Append((*room)[:0], text)
	key := KeyOf(*room)
	rooms.Put(room)
	return key
}

var rooms = sync.Pool{New: func() any {
	room := make([]byte, 0, Most+64)
	return &room
}}

// KeyOf is [Key] of a text that is a shape.
func KeyOf(shape []byte) uint64 {
	h := uint64(14695981039346656037) // FNV-1a, 64 bits
	for _, c := range shape {
		h = (h ^ uint64(c)) * 1099511628211
	}
	h ^= h >> 32 // so that short shapes differ in all bits
	h *= 0x9e3779b97f4a7c15
	return h | 1
}

type writer struct {
	dst   []byte
	start int // where the shape begins in dst
	hole  int // where dst ends with a mark, its end; else less
}

// cut cuts the shape to the most that it may have, between two characters.
func (w *writer) cut() []byte {
	if n := w.start + Most; len(w.dst) > n {
		for back := 0; back < utf8.UTFMax-1 && !utf8.RuneStart(w.dst[n]); back++ {
			n--
		}
		w.dst = w.dst[:n]
	}
	return w.dst
}

// mark leaves something out. What joins it to what was left out before goes with it.
func (w *writer) mark() {
	if end := len(w.dst); w.hole > 0 && (end == w.hole || end == w.hole+1 && joins(w.dst[end-1])) {
		w.dst = w.dst[:w.hole]
		return
	}
	if n := len(w.dst); n > w.start && (w.dst[n-1] == '-' || w.dst[n-1] == '+') && (n-1 == w.start || opensNumber(w.dst[n-2])) {
		w.dst = w.dst[:n-1]
	}
	w.dst = append(w.dst, Mark...)
	w.hole = len(w.dst)
}

func joins(c byte) bool { return c == '-' || c == '.' || c == ':' || c == '/' }

// opensNumber tells whether a sign behind c is one of a number.
func opensNumber(c byte) bool { return c == ' ' || c == '=' || c == '(' || c == ',' || c == '[' }

// word writes a run of letters, digits and marks, and returns where it ends.
func (w *writer) word(text []byte, start int) (end int) {
	letters := 0 // at the start of it
	form := true // only letters, and behind them only what is left out
	left := false
	for end = start; end < len(text); {
		if isMark(text, end) {
			left, end = true, end+len(Mark)
			continue
		}
		first := end
		for end < len(text) && kinds[text[end]] != other {
			end++
		}
		if first == end {
			break
		}
		run := text[first:end]
		at := digitAt(run)
		switch {
		case at == len(run):
			if form = form && !left; form {
				letters = first + at - start
			}
		case isID(run):
			form = form && (left || first == start || first-start == letters)
			left = true
		default:
			form = form && onlyDigits(run[at:]) && (!left || at == 0)
			if !left && form {
				letters = first + at - start
			}
			left = true
		}
	}
	switch word := text[start:end]; {
	case !left && isHex(word) && (len(word) >= longHex || len(word) >= leastHex && w.joined()): // which no word is
		w.mark()
	case !left:
		w.dst = append(w.dst, word...)
	default:
		if form && letters > 0 {
			w.dst = append(w.dst, word[:letters]...)
		}
		w.mark()
	}
	return end
}

// joined tells whether what comes next is joined by a dash to what was left out.
func (w *writer) joined() bool {
	n := len(w.dst)
	return w.hole > 0 && n == w.hole+1 && w.dst[n-1] == '-'
}

// quoted leaves out what stands between two quotes, and returns where it goes on.
func (w *writer) quoted(text []byte, start int) int {
	end := bytes.IndexByte(text[start+1:], '"')
	w.dst = append(w.dst, '"')
	if end < 0 {
		return start + 1
	}
	if end > 0 {
		w.hole = 0
		w.mark()
	}
	w.dst = append(w.dst, '"')
	return start + 1 + end + 1
}

// opens tells whether a quote stands at the start of a word.
func opens(text []byte, at int) bool {
	return at == 0 || text[at-1] == ' ' || text[at-1] == '('
}

const (
	other = iota
	digit
	hexLower
	hexUpper
	letter
)

var kinds = func() (t [256]byte) {
	for c := range t {
		switch b := byte(c); {
		case b-'0' <= 9:
			t[c] = digit
		case b-'a' < 6:
			t[c] = hexLower
		case b-'A' < 6:
			t[c] = hexUpper
		case b-'a' < 26, b-'A' < 26:
			t[c] = letter
		}
	}
	return
}()

func isMark(text []byte, at int) bool {
	return text[at] == Mark[0] && len(text)-at >= len(Mark) && string(text[at:at+len(Mark)]) == Mark
}

func isWord(text []byte, at int) bool { return kinds[text[at]] != other || isMark(text, at) }

// digitAt returns where the first digit is, or the length.
func digitAt(run []byte) int {
	for i, c := range run {
		if kinds[c] == digit {
			return i
		}
	}
	return len(run)
}

func onlyDigits(run []byte) bool {
	for _, c := range run {
		if kinds[c] != digit {
			return false
		}
	}
	return true
}

const (
	leastHex = 4 // letters and digits of an id in hexadecimal
	longHex  = 8 // of one that may be letters alone; in parts that are joined fewer will do
)

// isID tells whether a run with a digit in it is an id in hexadecimal, in letters of one case.
func isID(run []byte) bool { return len(run) >= leastHex && isHex(run) }

func isHex(run []byte) bool {
	lower, upper := false, false
	for _, c := range run {
		switch kinds[c] {
		case letter:
			return false
		case hexLower:
			lower = true
		case hexUpper:
			upper = true
		}
	}
	return !lower || !upper
}
