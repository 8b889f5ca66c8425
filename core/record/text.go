package record

import "unicode/utf8"

const hex = "0123456789abcdef"

// safeASCII marks the bytes that stand in a JSON string as they are.
var safeASCII = func() (t [256]bool) {
	for c := ' '; c < 0x7f; c++ {
		t[c] = c != '"' && c != '\\'
	}
	return
}()

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
	for i := 0; i < len(text); {
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
func AppendVisible[T []byte | string](dst []byte, text T) []byte {
	start := 0
	for i := 0; i < len(text); {
		if c := text[i]; c >= ' ' && c < 0x7f {
			i++
			continue
		}
		r, size := rune(text[i]), 1
		if r >= utf8.RuneSelf {
			r, size = utf8.DecodeRune([]byte(text[i:min(i+utf8.UTFMax, len(text))]))
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
func Visible(text string) string { return string(AppendVisible(nil, text)) }
