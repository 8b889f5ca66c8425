package record

import (
	"encoding/binary"
	"unicode/utf8"
)

const hex = "0123456789abcdef"

// safeASCII marks the bytes that stand in a JSON string as they are.
var safeASCII = func() (t [256]bool) {
	for c := ' '; c < 0x7f; c++ {
		t[c] = c != '"' && c != '\\'
	}
	return
}()

const (
	ones  = 0x0101010101010101 // a one in each byte
	highs = 0x80 * ones        // the high bit of each byte
)

// plainRun returns how many bytes at the start of b, eight at a time, are
// printable ASCII, with quotes and backslashes only where they are allowed. It
// may return less, never more: a byte is flagged by its high bit, and one that
// is flagged may flag the next by a carry.
func plainRun(b []byte, quotes bool) (n int) {
	for ; n+8 <= len(b); n += 8 {
		x := binary.LittleEndian.Uint64(b[n:])
		flags := x | (x - ' '*ones) | (x + ones) // not ASCII; below a space; DEL
		if !quotes {
			quote, slash := x^'"'*ones, x^'\\'*ones // 0 where they are
			flags |= (quote-ones)&^quote | (slash-ones)&^slash
		}
		if flags&highs != 0 {
			break
		}
	}
	return n
}

// Dangerous tells whether a terminal or an editor may take r as a command or
// turn the text around it: control characters (C0, DEL, C1), line and
// paragraph separators, marks of direction.
func Dangerous(r rune) bool {
	switch {
	case r < ' ', r >= 0x7f && r <= 0x9f, r == 0x061c, r == 0x200e, r == 0x200f:
		return true
	}
	return r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// AppendJSONString writes text as a JSON string. Bytes that are not UTF-8
// become U+FFFD, dangerous characters are escaped.
func AppendJSONString(dst, text []byte) []byte {
	dst = append(dst, '"')
	start := 0
	for i := plainRun(text, false); i < len(text); {
		c := text[i]
		if safeASCII[c] {
			i++
			continue
		}
		if c < utf8.RuneSelf {
			dst = append(dst, text[start:i]...)
			dst = appendEscape(dst, rune(c))
			i++
			start = i
			continue
		}
		r, size := utf8.DecodeRune(text[i:])
		if r == utf8.RuneError && size == 1 {
			dst = append(append(dst, text[start:i]...), "\uFFFD"...)
			start = i + 1
		} else if Dangerous(r) {
			dst = appendEscape(append(dst, text[start:i]...), r)
			start = i + size
		}
		i += size
	}
	return append(append(dst, text[start:]...), '"')
}

func appendEscape(dst []byte, r rune) []byte {
	switch r {
	case '"', '\\':
		return append(dst, '\\', byte(r))
	case '\n':
		return append(dst, '\\', 'n')
	case '\r':
		return append(dst, '\\', 'r')
	case '\t':
		return append(dst, '\\', 't')
	}
	return append(dst, '\\', 'u', hex[r>>12&15], hex[r>>8&15], hex[r>>4&15], hex[r&15])
}

// AppendVisible writes text so that it is one line and harmless on a terminal:
// dangerous characters are escaped as in JSON, bytes that are not UTF-8 as
// \xNN. Quotes and backslashes stand as they are.
func AppendVisible(dst, text []byte) []byte {
	start := 0
	for i := plainRun(text, true); i < len(text); {
		if c := text[i]; c >= ' ' && c < 0x7f {
			i++
			continue
		}
		r, size := rune(text[i]), 1
		if r >= utf8.RuneSelf {
			r, size = utf8.DecodeRune(text[i:])
		}
		if r == utf8.RuneError && size == 1 {
			dst = append(append(dst, text[start:i]...), '\\', 'x', hex[text[i]>>4], hex[text[i]&15])
			start = i + 1
		} else if Dangerous(r) {
			dst = appendEscape(append(dst, text[start:i]...), r)
			start = i + size
		}
		i += size
	}
	return append(dst, text[start:]...)
}

// Visible returns text made harmless as [AppendVisible] does.
func Visible(text string) string { return string(AppendVisible(nil, []byte(text))) }

// Clip returns the first 80 characters of text, made harmless as by [Visible],
// and … where there is more.
func Clip(text []byte) string { return ClipTo(text, 80) }

// ClipTo is [Clip] with another number of characters.
func ClipTo(text []byte, longest int) string {
	start := text[:min(len(text), 4*longest)]
	runes := []rune(Visible(string(start)))
	if len(runes) <= longest && len(start) == len(text) {
		return string(runes)
	}
	return string(runes[:min(len(runes), longest)]) + "…"
}
