package record

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// maxDepth bounds how deep values may be nested in JSON that is read.
const maxDepth = 64

// JSONError says where JSON could not be read.
type JSONError struct {
	Offset int // bytes from the start
	What   string
}

func (e *JSONError) Error() string { return fmt.Sprintf("byte %d: %s", e.Offset+1, e.What) }

// ParseJSON reads one JSON object (RFC 8259) into the tree. Names and texts
// without escapes are slices of b. Numbers keep their digits.
func (t *Tree) ParseJSON(b []byte) error {
	t.Reset()
	p := jsonParser{tree: t, b: b}
	p.space()
	if p.peek() != '{' {
		return p.fail("an object is expected")
	}
	if err := p.members(0, 0); err != nil {
		return err
	}
	p.space()
	if p.at < len(b) {
		return p.fail("nothing may follow the object")
	}
	return nil
}

type jsonParser struct {
	tree *Tree
	b    []byte
	at   int
}

func (p *jsonParser) fail(what string) error { return &JSONError{p.at, what} }

func (p *jsonParser) space() {
	for p.at < len(p.b) && (p.b[p.at] == ' ' || p.b[p.at] == '\t' || p.b[p.at] == '\n' || p.b[p.at] == '\r') {
		p.at++
	}
}

// peek returns the next byte, 0 at the end.
func (p *jsonParser) peek() byte {
	if p.at < len(p.b) {
		return p.b[p.at]
	}
	return 0
}

// members reads the rest of an object or a list, from its opening bracket.
func (p *jsonParser) members(parent int32, depth int) error {
	if depth == maxDepth {
		return p.fail("nested too deep")
	}
	object := p.peek() == '{'
	closing := p.peek() + 2 // in ASCII each closing bracket is two behind its opening one
	p.at++
	p.space()
	if p.peek() == closing {
		p.at++
		return nil
	}
	for {
		var key []byte
		if object {
			var err error
			if key, err = p.key(); err != nil {
				return err
			}
		}
		if err := p.value(parent, key, depth); err != nil {
			return err
		}
		p.space()
		switch p.peek() {
		case ',':
			p.at++
			p.space()
		case closing:
			p.at++
			return nil
		default:
			return p.fail("a comma or a closing bracket is expected")
		}
	}
}

func (p *jsonParser) key() ([]byte, error) {
	if p.peek() != '"' {
		return nil, p.fail("a name in double quotes is expected")
	}
	key, err := p.text()
	if err != nil {
		return nil, err
	}
	p.space()
	if p.peek() != ':' {
		return nil, p.fail("a colon is expected")
	}
	p.at++
	p.space()
	return key, nil
}

func (p *jsonParser) value(parent int32, key []byte, depth int) error {
	n := node{key: key}
	switch c := p.peek(); {
	case c == '"':
		text, err := p.text()
		if err != nil {
			return err
		}
		n.kind, n.text = String, text
	case c == '{' || c == '[':
		n.kind = Object
		if c == '[' {
			n.kind = List
		}
		return p.members(p.tree.add(parent, n), depth+1)
	case c == '-' || c-'0' <= 9:
		n.kind, n.text = Number, p.b[p.at:p.at+NumberLen(p.b[p.at:])]
		if d := bytes.TrimPrefix(n.text, []byte("-")); len(d) == 0 || len(d) > 1 && d[0] == '0' && d[1]-'0' <= 9 {
			return p.fail("not a number")
		}
		p.at += len(n.text)
	default:
		word, kind := p.word()
		if word == 0 {
			return p.fail("a value is expected")
		}
		n.kind = kind
		if kind == Bool {
			n.text = p.b[p.at : p.at+word]
		}
		p.at += word
	}
	p.tree.add(parent, n)
	return nil
}

// word returns the length and kind of a literal name, 0 where there is none.
func (p *jsonParser) word() (int, Kind) {
	rest := p.b[p.at:]
	switch {
	case bytes.HasPrefix(rest, []byte("true")):
		return 4, Bool
	case bytes.HasPrefix(rest, []byte("false")):
		return 5, Bool
	case bytes.HasPrefix(rest, []byte("null")):
		return 4, Null
	}
	return 0, Null
}

// NumberLen returns the length of the number at the start of b, 0 without one:
// [-+]digits[.digits][e[-+]digits].
func NumberLen(b []byte) int {
	n := 0
	if n < len(b) && (b[n] == '-' || b[n] == '+') {
		n++
	}
	end := digits(b, n)
	if end == n {
		return 0
	}
	n = end
	if n+1 < len(b) && b[n] == '.' {
		if end = digits(b, n+1); end > n+1 {
			n = end
		}
	}
	if n+1 < len(b) && (b[n] == 'e' || b[n] == 'E') {
		start := n + 1
		if b[start] == '-' || b[start] == '+' {
			start++
		}
		if end = digits(b, start); end > start {
			n = end
		}
	}
	return n
}

func digits(b []byte, n int) int {
	for n < len(b) && b[n]-'0' <= 9 {
		n++
	}
	return n
}

// text reads a string from its opening quote.
func (p *jsonParser) text() ([]byte, error) {
	p.at++
	start := p.at
	for p.at < len(p.b) && p.b[p.at] != '"' && p.b[p.at] != '\\' && p.b[p.at] >= ' ' {
		p.at++
	}
	if p.peek() == '"' {
		p.at++
		return p.b[start : p.at-1 : p.at-1], nil
	}
	t := p.tree
	from := len(t.scratch)
	t.scratch = append(t.scratch, p.b[start:p.at]...)
	for p.at < len(p.b) {
		switch c := p.b[p.at]; {
		case c == '"':
			p.at++
			return t.scratch[from:len(t.scratch):len(t.scratch)], nil
		case c == '\\':
			if err := p.escape(); err != nil {
				return nil, err
			}
		case c < ' ':
			return nil, p.fail("a control character in a string must be escaped")
		default:
			t.scratch = append(t.scratch, c)
			p.at++
		}
	}
	return nil, p.fail("the string has no end")
}

func (p *jsonParser) escape() error {
	if p.at+1 >= len(p.b) {
		return p.fail("the string has no end")
	}
	t := p.tree
	c := p.b[p.at+1]
	if c == 'u' {
		r, size := p.unicode(p.at)
		if size == 0 {
			return p.fail(`four hexadecimal digits are expected after \u`)
		}
		if utf16.IsSurrogate(r) {
			low, more := p.unicode(p.at + size)
			if r = utf16.DecodeRune(r, low); r != utf8.RuneError {
				size += more
			}
		}
		t.scratch = utf8.AppendRune(t.scratch, r)
		p.at += size
		return nil
	}
	i := bytes.IndexByte([]byte(`"\/bfnrt`), c)
	if i < 0 {
		return p.fail(`an unknown escape`)
	}
	t.scratch = append(t.scratch, "\"\\/\b\f\n\r\t"[i])
	p.at += 2
	return nil
}

// unicode reads \uXXXX at b[at:].
func (p *jsonParser) unicode(at int) (r rune, size int) {
	if at+6 > len(p.b) || p.b[at] != '\\' || p.b[at+1] != 'u' {
		return 0, 0
	}
	v, err := strconv.ParseUint(string(p.b[at+2:at+6]), 16, 16)
	if err != nil {
		return 0, 0
	}
	return rune(v), 6
}

// ParseJSON reads a record that AppendJSON wrote. Keys that are not a record's
// are passed over. The slices of r point into line or into memory of r.
func (r *Record) ParseJSON(line []byte) error {
	r.Reset()
	var t Tree
	if err := t.ParseJSON(line); err != nil {
		return err
	}
	facility, severity, seen := DefaultPriority.Facility(), DefaultPriority.Severity(), false
	for v := t.Root().First(); v.More(); v = v.Next() {
		ok := true
		switch text := v.Text(); string(v.Key()) {
		case "time":
			r.Time, ok = wholeStamp(text)
			seen = true
		case "received":
			r.Received, ok = wholeStamp(text)
		case "facility":
			facility, ok = ParseFacility(string(text))
		case "severity":
			severity, ok = ParseSeverity(string(text))
		case "host":
			r.Host = present(text)
		case "agent":
			r.Agent = present(text)
		case "app":
			r.App = present(text)
		case "procid":
			r.ProcID = present(text)
		case "msgid":
			r.MsgID = present(text)
		case "text":
			r.Text = present(text)
		case "fields":
			ok = v.Kind() == Object
			if v.Len() > 0 {
				r.SetData(v.AppendJSON(nil))
				r.Cut = v.Get(cutKey).Exists()
			}
		case "intake":
			r.Intake = string(text)
		case "peer":
			r.Peer, ok = parsePeer(v)
		case "stream":
			r.Stream, ok = parseStream(text)
		case "raw":
			var err error
			r.Raw, err = base64.StdEncoding.AppendDecode([]byte{}, text)
			ok = err == nil
		}
		if !ok {
			return fmt.Errorf("the value of %q is not one of a record", v.Key())
		}
	}
	if !seen {
		return errors.New("there is no time: this is not a record of ours")
	}
	r.Priority = MakePriority(facility, severity)
	return nil
}

func wholeStamp(b []byte) (Stamp, bool) {
	s, n, ok := ParseStamp(b)
	return s, ok && n == len(b)
}

// present makes a property that is there but empty differ from a missing one.
func present(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

func parseStream(text []byte) (Stream, bool) {
	for s := Stdout; s <= Stderr; s++ {
		if string(text) == s.String() {
			return s, true
		}
	}
	return NoStream, false
}

func parsePeer(v Value) (*Peer, bool) {
	if addr := v.Get([]byte("address")); addr.Exists() {
		a, err := netip.ParseAddrPort(string(addr.Text()))
		return &Peer{Addr: a}, err == nil
	}
	number := func(key string) uint64 {
		n, _ := strconv.ParseUint(string(v.Get([]byte(key)).Text()), 10, 32)
		return n
	}
	return &Peer{PID: int32(number("pid")), UID: uint32(number("uid")), GID: uint32(number("gid"))}, v.Kind() == Object
}
