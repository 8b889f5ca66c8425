package wire

import (
	"bytes"
	"unicode/utf8"

	"oakbarrel/core/record"
)

// escapedMark tells that the text and the parameter values of a message hold
// the escapes \\, \n, \r and \xNN. With it, a record of several lines is one
// line in a file and still loses no byte.
var escapedMark = []byte("[escaped@32473]")

// mustEscape tells whether b holds a control character that may not stand in a
// line, or one that turns the text around it.
func mustEscape(b []byte) bool {
	for i, c := range b {
		if c < ' ' && c != '\t' || c == 0x7f || c >= utf8.RuneSelf && dangerous(b[i:]) > 0 {
			return true
		}
	}
	return false
}

// dangerous returns how many bytes the character at the start of b has, if it is
// one of [record.Dangerous] that is no single byte; else 0.
func dangerous(b []byte) int {
	if b[0] != 0xc2 && b[0] != 0xd8 && b[0] != 0xe2 { // with which all of those begin
		return 0
	}
	r, size := utf8.DecodeRune(b)
	if size == 1 || !record.Dangerous(r) {
		return 0
	}
	return size
}

func appendEscaped(dst, b []byte) []byte {
	const hex = "0123456789abcdef"
	left := 0 // bytes of a character that is dangerous as a whole
	for i, c := range b {
		if c >= utf8.RuneSelf && left == 0 {
			left = dangerous(b[i:])
		}
		switch {
		case left > 0:
			dst = append(dst, '\\', 'x', hex[c>>4], hex[c&15])
			left--
		case c == '\\':
			dst = append(dst, '\\', '\\')
		case c == '\n':
			dst = append(dst, '\\', 'n')
		case c == '\r':
			dst = append(dst, '\\', 'r')
		case c < ' ' && c != '\t' || c == 0x7f:
			dst = append(dst, '\\', 'x', hex[c>>4], hex[c&15])
		default:
			dst = append(dst, c)
		}
	}
	return dst
}

func appendUnescaped(dst, b []byte) []byte {
	for i := 0; i < len(b); i++ {
		c, size := unescapeByte(b[i:])
		dst = append(dst, c)
		i += size - 1
	}
	return dst
}

// unescapeByte returns the byte that b starts with and the length of its escape.
func unescapeByte(b []byte) (byte, int) {
	if b[0] != '\\' || len(b) < 2 {
		return b[0], 1
	}
	switch b[1] {
	case '\\':
		return '\\', 2
	case 'n':
		return '\n', 2
	case 'r':
		return '\r', 2
	case 'x':
		if len(b) >= 4 {
			high, low := unhex(b[2]), unhex(b[3])
			if high < 16 && low < 16 {
				return high<<4 | low, 4
			}
		}
	}
	return b[0], 1
}

func unhex(c byte) byte {
	switch {
	case c-'0' <= 9:
		return c - '0'
	case c-'a' <= 5:
		return c - 'a' + 10
	}
	return 16
}

// escapeData returns structured data with its values escaped.
func escapeData(data []byte) []byte {
	return record.AppendMappedData(nil, data, appendEscaped)
}

// unescapeRecord undoes the escapes of a marked record and takes the mark away.
func unescapeRecord(r *record.Record) {
	data := bytes.TrimPrefix(r.Data, escapedMark)
	r.SetData(record.AppendMappedData(nil, data, appendUnescaped))
	if r.Text != nil {
		r.Text = appendUnescaped([]byte{}, r.Text)
	}
}
