package tail

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
	"unicode/utf8"
)

// encoding is how the text of a file is written. Records have UTF-8.
type encoding uint8

const (
	plain   encoding = iota // UTF-8, or bytes that are taken as they are
	littleE                 // UTF-16, the low byte of each unit first, as Windows writes it
	bigE                    // UTF-16, the high byte first
)

// mark is what a file of UTF-8 may begin with, which is no part of its text.
var mark = []byte("\ufeff")

// unitSize is how many bytes a character has at least.
func (e encoding) unitSize() int {
	if e == plain {
		return 1
	}
	return 2
}

// surely is how many units must look like UTF-16 where no mark says so.
const surely = 4

// encodingOf tells how a file is written that begins with head: by its mark, and where it has
// none by letters of ASCII that have a NUL each, as no other text does.
func encodingOf(head []byte) encoding {
	switch {
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return littleE
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return bigE
	case looksLike(head, binary.LittleEndian):
		return littleE
	case looksLike(head, binary.BigEndian):
		return bigE
	}
	return plain
}

func looksLike(head []byte, order binary.ByteOrder) bool {
	for i := range surely {
		if len(head) < 2*i+2 {
			return false
		}
		if c := order.Uint16(head[2*i:]); c >= 0x7f || c < ' ' && c != '\t' && c != '\r' && c != '\n' {
			return false
		}
	}
	return true
}

// lineEnd returns how many bytes the first line of b has with its end mark, 0 where that is not
// there. B begins with a whole character.
func (e encoding) lineEnd(b []byte) int {
	if e == plain {
		return bytes.IndexByte(b, '\n') + 1
	}
	for at := 0; ; {
		i := bytes.IndexByte(b[at:], '\n')
		if i < 0 {
			return 0
		}
		unit := (at + i) &^ 1
		if unit+2 <= len(b) && e.unit(b[unit:]) == '\n' {
			return unit + 2
		}
		at += i + 1
	}
}

// lastLine returns where in b, which begins with a whole character, the line begins that has no
// end mark yet.
func (e encoding) lastLine(b []byte) int {
	if e == plain {
		return bytes.LastIndexByte(b, '\n') + 1
	}
	for unit := len(b)&^1 - 2; unit >= 0; unit -= 2 {
		if e.unit(b[unit:]) == '\n' {
			return unit + 2
		}
	}
	return 0
}

func (e encoding) unit(b []byte) uint16 {
	if e == littleE {
		return binary.LittleEndian.Uint16(b)
	}
	return binary.BigEndian.Uint16(b)
}

// text returns a line as UTF-8; what is no text becomes U+FFFD. A line of plain text is returned as it is.
func (e encoding) text(line []byte) []byte {
	if e == plain {
		return line
	}
	text := make([]byte, 0, len(line)/2+8)
	for len(line) > 1 {
		r := rune(e.unit(line))
		line = line[2:]
		if utf16.IsSurrogate(r) {
			low := rune(utf8.RuneError)
			if len(line) > 1 {
				low = rune(e.unit(line))
			}
			if r = utf16.DecodeRune(r, low); r != utf8.RuneError {
				line = line[2:]
			}
		}
		text = utf8.AppendRune(text, r)
	}
	if len(line) > 0 {
		text = utf8.AppendRune(text, utf8.RuneError)
	}
	return text
}
