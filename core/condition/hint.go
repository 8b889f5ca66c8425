package condition

import (
	"bytes"

	"oakbarrel/core/record"
)

// Hint tells quickly that no record of a text can meet a condition, whatever
// the form in which the records stand there, as long as printable ASCII stands
// as it is. It may be used by several goroutines at a time.
type Hint struct{ words []hintWord }

// hintWord is a word of which one must stand in the text.
type hintWord struct {
	want   []byte // in lower case where fold is true
	fold   bool
	anchor []byte // a part of it that has no letters, which is looked for first; nil for none
	at     int    // of the anchor in want
	rare   int    // the place of a letter that is likely to be rare, where there is no anchor
}

// Hint returns the hint of a condition, nil where it has none.
func (c *Condition) Hint() *Hint {
	for _, part := range conjuncts(nil, c.root) {
		t, is := part.(*textTest)
		if !is || t.prop.which != text || len(t.search) == 0 {
			continue
		}
		h := &Hint{}
		for i := range t.search {
			s := &t.search[i]
			if !plainWord(s.want) {
				h = nil
				break
			}
			h.words = append(h.words, newHintWord(s.want, s.fold))
		}
		if h != nil {
			return h
		}
	}
	return nil
}

// plainWord tells whether a word stands in every form of a line as it is.
func plainWord(want []byte) bool {
	for _, c := range want {
		if c < ' ' || c >= 0x7f || c == '"' || c == '\\' {
			return false
		}
	}
	return len(want) >= 3
}

const rareLetters = "zqxjkvbpygfwmucldrhsniotae"

func newHintWord(want []byte, fold bool) hintWord {
	w := hintWord{want: want, fold: fold}
	if !fold {
		return w
	}
	w.want = bytes.ToLower(want)
	start := 0
	for i := 0; i <= len(w.want); i++ {
		if i < len(w.want) && (w.want[i] < 'a' || w.want[i] > 'z') {
			continue
		}
		if i-start > max(2, len(w.anchor)) {
			w.anchor, w.at = w.want[start:i], start
		}
		start = i + 1
	}
	best := len(rareLetters)
	for i, c := range w.want {
		if rank := bytes.IndexByte([]byte(rareLetters), c); rank >= 0 && rank < best {
			best, w.rare = rank, i
		}
	}
	return w
}

// In tells whether a record of the text may meet the condition.
func (h *Hint) In(text []byte) bool {
	for i := range h.words {
		if h.words[i].in(text) {
			return true
		}
	}
	return false
}

func (w *hintWord) in(text []byte) bool {
	switch {
	case !w.fold:
		return bytes.Contains(text, w.want)
	case w.anchor != nil:
		for from := 0; ; {
			i := bytes.Index(text[from:], w.anchor)
			if i < 0 {
				return false
			}
			if w.standsAt(text, from+i-w.at) {
				return true
			}
			from += i + 1
		}
	}
	lower := w.want[w.rare]
	upper := lower
	if lower >= 'a' && lower <= 'z' {
		upper -= 'a' - 'A'
	}
	a, b := next(text, lower, 0), next(text, upper, 0)
	for a < len(text) || b < len(text) {
		at := min(a, b)
		if w.standsAt(text, at-w.rare) {
			return true
		}
		if a == at {
			a = next(text, lower, a+1)
		}
		if b == at {
			b = next(text, upper, b+1)
		}
	}
	return false
}

// next returns where c stands in text at from or behind, the length of text if nowhere.
func next(text []byte, c byte, from int) int {
	if i := bytes.IndexByte(text[from:], c); i >= 0 {
		return from + i
	}
	return len(text)
}

func (w *hintWord) standsAt(text []byte, at int) bool {
	if at < 0 || at+len(w.want) > len(text) {
		return false
	}
	for i, c := range w.want {
		if record.LowerASCII[text[at+i]] != c {
			return false
		}
	}
	return true
}
