package event

import (
	"bytes"
	"encoding/hex"
	"math"
	"strconv"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

// The kinds of values in binary XML. An array has a flag.
const (
	nullKind      = 0x00
	stringKind    = 0x01
	bytesKind     = 0x02 // text of one byte a character
	boolKind      = 0x0d
	binaryKind    = 0x0e
	guidKind      = 0x0f
	sizeKind      = 0x10
	fileTimeKind  = 0x11
	systemKind    = 0x12 // a time in its parts
	sidKind       = 0x13
	hex32Kind     = 0x14
	hex64Kind     = 0x15
	binaryXMLKind = 0x21
	arrayFlag     = 0x80
)

// sizes are those of values of a fixed size, in bytes.
var sizes = map[byte]int{3: 1, 4: 1, 5: 2, 6: 2, 7: 4, 8: 4, 9: 8, 10: 8, 11: 4, 12: 8, boolKind: 4, guidKind: 16, fileTimeKind: 8, systemKind: 16, hex32Kind: 4, hex64Kind: 8}

// items returns the values of an array, or the one that it is.
func (v value) items() (items []value) {
	kind := v.kind &^ arrayFlag
	switch size := sizes[kind]; {
	case v.kind&arrayFlag == 0:
		return []value{v}
	case kind == stringKind:
		for data := v.data; len(data) > 1; {
			end := zeroUnit(data)
			items = append(items, value{kind: kind, data: data[:end]})
			data = data[min(end+2, len(data)):]
		}
		return items
	case size > 0:
		for data := v.data; len(data) >= size; data = data[size:] {
			items = append(items, value{kind: kind, data: data[:size]})
		}
		return items
	}
	return []value{{kind: binaryKind, data: v.data}}
}

// zeroUnit returns where the first character is that is 0, or the end.
func zeroUnit(b []byte) int {
	for i := 0; i+1 < len(b); i += 2 {
		if b[i] == 0 && b[i+1] == 0 {
			return i
		}
	}
	return len(b)
}

// appendText writes a text of UTF-16 up to its first 0, as XML may have it in one line.
func appendText(dst, units []byte) []byte {
	units = units[:zeroUnit(units)]
	for i := 0; i+1 < len(units); i += 2 {
		r := rune(le.Uint16(units[i:]))
		if utf16.IsSurrogate(r) && i+3 < len(units) {
			if pair := utf16.DecodeRune(r, rune(le.Uint16(units[i+2:]))); pair != utf8.RuneError {
				r = pair
				i += 2
			}
		}
		dst = appendEscaped(dst, r)
	}
	return dst
}

func appendEscaped(dst []byte, r rune) []byte {
	switch r {
	case '&':
		return append(dst, "&amp;"...)
	case '<':
		return append(dst, "&lt;"...)
	case '>':
		return append(dst, "&gt;"...)
	case '"':
		return append(dst, "&quot;"...)
	case '\n':
		return append(dst, "&#10;"...)
	case '\r':
		return append(dst, "&#13;"...)
	}
	return utf8.AppendRune(dst, r)
}

// appendValue writes a value as the system itself would. One that is shorter than its kind is
// written in hexadecimal.
func appendValue(dst []byte, v value) []byte {
	if len(v.data) < sizes[v.kind] {
		return appendHex(dst, v.data)
	}
	b := v.data
	switch v.kind {
	case nullKind:
		return dst
	case stringKind:
		return appendText(dst, b)
	case bytesKind:
		for _, c := range bytes.TrimRight(b, "\x00") {
			dst = appendEscaped(dst, rune(c))
		}
		return dst
	case 3:
		return strconv.AppendInt(dst, int64(int8(b[0])), 10)
	case 4:
		return appendNumber(dst, uint64(b[0]))
	case 5:
		return strconv.AppendInt(dst, int64(int16(le.Uint16(b))), 10)
	case 6:
		return appendNumber(dst, uint64(le.Uint16(b)))
	case 7:
		return strconv.AppendInt(dst, int64(int32(le.Uint32(b))), 10)
	case 8:
		return appendNumber(dst, uint64(le.Uint32(b)))
	case 9:
		return strconv.AppendInt(dst, int64(le.Uint64(b)), 10)
	case 10:
		return appendNumber(dst, le.Uint64(b))
	case 11:
		return strconv.AppendFloat(dst, float64(math.Float32frombits(le.Uint32(b))), 'g', -1, 32)
	case 12:
		return strconv.AppendFloat(dst, math.Float64frombits(le.Uint64(b)), 'g', -1, 64)
	case boolKind:
		return strconv.AppendBool(dst, le.Uint32(b) != 0)
	case guidKind:
		return appendGUID(dst, b)
	case fileTimeKind:
		return appendFileTime(dst, le.Uint64(b))
	case systemKind:
		at := time.Date(int(le.Uint16(b)), time.Month(le.Uint16(b[2:])), int(le.Uint16(b[6:])), int(le.Uint16(b[8:])), int(le.Uint16(b[10:])), int(le.Uint16(b[12:])), int(le.Uint16(b[14:]))*1e6, time.UTC)
		return at.AppendFormat(dst, "2006-01-02T15:04:05.000Z")
	case sidKind:
		return appendSID(dst, b)
	case hex32Kind:
		return strconv.AppendUint(append(dst, '0', 'x'), uint64(le.Uint32(b)), 16)
	case hex64Kind:
		return strconv.AppendUint(append(dst, '0', 'x'), le.Uint64(b), 16)
	case sizeKind:
		if len(b) == 4 {
			return strconv.AppendUint(append(dst, '0', 'x'), uint64(le.Uint32(b)), 16)
		} else if len(b) == 8 {
			return strconv.AppendUint(append(dst, '0', 'x'), le.Uint64(b), 16)
		}
	}
	return appendHex(dst, b)
}

func appendNumber(dst []byte, n uint64) []byte { return strconv.AppendUint(dst, n, 10) }

func appendHex(dst, b []byte) []byte {
	start := len(dst)
	dst = hex.AppendEncode(dst, b)
	copy(dst[start:], bytes.ToUpper(dst[start:]))
	return dst
}

// appendGUID writes {00112233-4455-6677-8899-AABBCCDDEEFF}: three numbers, and eight bytes.
func appendGUID(dst, b []byte) []byte {
	dst = append(dst, '{')
	for i, at := range []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15} {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			dst = append(dst, '-')
		}
		dst = appendHex(dst, b[at:at+1])
	}
	return append(dst, '}')
}

// appendFileTime writes a number of tenths of microseconds since the year 1601.
func appendFileTime(dst []byte, n uint64) []byte {
	const second, since1970 = 10_000_000, 11_644_473_600
	at := time.Unix(int64(n/second)-since1970, int64(n%second)*100).UTC()
	return at.AppendFormat(dst, "2006-01-02T15:04:05.0000000Z")
}

// appendSID writes S-1-5-18: a revision, an authority of six bytes, and numbers.
func appendSID(dst, b []byte) []byte {
	if len(b) < 8 || len(b) < 8+4*int(b[1]) {
		return appendHex(dst, b)
	}
	dst = appendNumber(append(dst, 'S', '-'), uint64(b[0]))
	var authority uint64
	for _, c := range b[2:8] {
		authority = authority<<8 | uint64(c)
	}
	dst = appendNumber(append(dst, '-'), authority)
	for i := range int(b[1]) {
		dst = appendNumber(append(dst, '-'), uint64(le.Uint32(b[8+4*i:])))
	}
	return dst
}
