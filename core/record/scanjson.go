package record

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/bits"
)

// Member is where a member of an object stands in JSON: the bytes from At to Quote are its
// key between quotes, those from Value to End its value.
type Member struct {
	At, Quote, Value, End int32
	Escaped               bool // the value is a string with escapes
}

// Key returns the key of a member in b, between its quotes, with its escapes.
func (m *Member) Key(b []byte) []byte { return b[m.At+1 : m.Quote : m.Quote] }

// Whole returns the member as it stands in b, from the quote of its key on.
func (m *Member) Whole(b []byte) []byte { return b[m.At:m.End:m.End] }

// IsString tells whether the value of a member in b is a string.
func (m *Member) IsString(b []byte) bool { return b[m.Value] == '"' }

// Text returns a string's content, with its escapes, and what another value is written as.
func (m *Member) Text(b []byte) []byte {
	if m.IsString(b) {
		return b[m.Value+1 : m.End-1 : m.End-1]
	}
	return b[m.Value:m.End:m.End]
}

// ScanObject reads a JSON object (RFC 8259) as [Tree.ParseJSON] does, but makes no tree:
// it appends the object's members to a list, and allocates nothing where that has room.
// Of b at most 2 GiB are read.
func ScanObject(b []byte, members []Member) (all []Member, ok bool) {
	at := skipSpace(b, 0)
	if at == len(b) || b[at] != '{' || len(b) > math.MaxInt32 {
		return members, false
	}
	if at = skipSpace(b, at+1); at < len(b) && b[at] == '}' {
		return members, skipSpace(b, at+1) == len(b)
	}
	for {
		key, value := skipKey(b, at)
		if value < 0 {
			return members, false
		}
		end, escaped := skipValue(b, value, 1)
		if end < 0 {
			return members, false
		}
		members = append(members, Member{int32(at), int32(key), int32(value), int32(end), escaped})
		if end = skipSpace(b, end); end == len(b) {
			return members, false
		}
		switch b[end] {
		case ',':
			at = skipSpace(b, end+1)
		case '}':
			return members, skipSpace(b, end+1) == len(b)
		default:
			return members, false
		}
	}
}

// NestedLen returns how many bytes the JSON object, or list, takes that b begins with, 0
// without one.
func NestedLen(b []byte) int {
	if len(b) == 0 || b[0] != '{' && b[0] != '[' {
		return 0
	}
	return max(0, skipNested(b, 0, 1))
}

func skipSpace(b []byte, at int) int {
	for at < len(b) && b[at] <= ' ' && (b[at] == ' ' || b[at] == '\t' || b[at] == '\n' || b[at] == '\r') {
		at++
	}
	return at
}

// skipKey passes over the name at b[at:] and the colon behind it, and tells where its
// closing quote and its value are; the latter is -1 where there is no name.
func skipKey(b []byte, at int) (quote, value int) {
	end, _ := skipString(b, at)
	if end < 0 {
		return 0, -1
	}
	colon := skipSpace(b, end)
	if colon == len(b) || b[colon] != ':' {
		return 0, -1
	}
	return end - 1, skipSpace(b, colon+1)
}

// skipValue returns where the value at b[at:] ends, -1 where there is none, and whether it
// is a string with escapes.
func skipValue(b []byte, at, depth int) (end int, escaped bool) {
	if at == len(b) {
		return -1, false
	}
	switch c := b[at]; {
	case c == '"':
		return skipString(b, at)
	case c == '{' || c == '[':
		if depth == maxDepth {
			return -1, false
		}
		return skipNested(b, at, depth+1), false
	case c == '-' || c-'0' <= 9:
		n := NumberLen(b[at:])
		if d := bytes.TrimPrefix(b[at:at+n], []byte("-")); len(d) == 0 || len(d) > 1 && d[0] == '0' && d[1]-'0' <= 9 {
			return -1, false
		}
		return at + n, false
	}
	for _, word := range [...]string{"true", "false", "null"} {
		if len(b)-at >= len(word) && string(b[at:at+len(word)]) == word {
			return at + len(word), false
		}
	}
	return -1, false
}

// skipNested returns where the object or the list at b[at:] ends, -1 where it does not.
func skipNested(b []byte, at, depth int) int {
	object, closing := b[at] == '{', b[at]+2
	if at = skipSpace(b, at+1); at < len(b) && b[at] == closing {
		return at + 1
	}
	for {
		if object {
			if _, at = skipKey(b, at); at < 0 {
				return -1
			}
		}
		if at, _ = skipValue(b, at, depth); at < 0 {
			return -1
		}
		if at = skipSpace(b, at); at == len(b) {
			return -1
		}
		switch b[at] {
		case ',':
			at = skipSpace(b, at+1)
		case closing:
			return at + 1
		default:
			return -1
		}
	}
}

// skipString returns where the string at b[at:] ends, -1 where there is none, and whether
// it has escapes.
func skipString(b []byte, at int) (end int, escaped bool) {
	if at >= len(b) || b[at] != '"' {
		return -1, false
	}
	for at++; ; escaped = true {
		if at += plainString(b[at:]); at >= len(b) || b[at] < ' ' {
			return -1, false
		}
		if b[at] == '"' {
			return at + 1, escaped
		}
		if at+1 == len(b) {
			return -1, false
		}
		switch b[at+1] {
		case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
			at += 2
		case 'u':
			if at+6 > len(b) || !isHex(b[at+2:at+6]) {
				return -1, false
			}
			at += 6
		default:
			return -1, false
		}
	}
}

func isHex(b []byte) bool {
	for _, c := range b {
		if c-'0' > 9 && (c|0x20)-'a' > 5 {
			return false
		}
	}
	return true
}

// plainString returns how many bytes come before a quote, a backslash or a control
// character. Eight are looked at at a time.
func plainString(b []byte) int {
	const (
		ones  = 0x0101010101010101
		highs = 0x8080808080808080
	)
	n := 0
	for ; len(b)-n >= 8; n += 8 {
		w := binary.LittleEndian.Uint64(b[n:])
		quote, slash := w^(ones*'"'), w^(ones*'\\')
		found := ((quote - ones) &^ quote) | ((slash - ones) &^ slash) | ((w - ones*' ') &^ w)
		if found &= highs; found != 0 {
			return n + bits.TrailingZeros64(found)/8
		}
	}
	for n < len(b) && b[n] != '"' && b[n] != '\\' && b[n] >= ' ' {
		n++
	}
	return n
}
