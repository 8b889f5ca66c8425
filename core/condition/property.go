package condition

import (
	"strconv"
	"strings"

	"oakbarrel/core/record"
)

// which names a property that is a text.
type which uint8

const (
	host which = iota
	agent
	app
	procid
	msgid
	text
	field
)

var propertyNames = map[which]string{host: "host", agent: "agent", app: "app", procid: "procid", msgid: "msgid", text: "text"}

// property is what a test looks at: a property of the record, or a field.
type property struct {
	which which
	path  Path   // of a field
	name  string // of a field that has one of its own
}

// UnitPath leads to the field in which the journal tells the unit of a record, which
// conditions call unit.
var UnitPath = Path{{name: "journal@32473"}, {name: "unit"}}

// isHost tells whether the property is the name of a host, which minds no letter case.
func (p property) isHost() bool { return p.which == host || p.which == agent }

func (p property) String() string {
	if p.name != "" {
		return p.name
	}
	if p.which == field {
		return "field " + p.path.String()
	}
	return propertyNames[p.which]
}

// of returns the property, nil where it is missing; not for fields.
func (p property) of(r *record.Record) []byte {
	switch p.which {
	case host:
		return r.Host
	case agent:
		return r.Agent
	case app:
		return r.App
	case procid:
		return r.ProcID
	case msgid:
		return r.MsgID
	}
	return r.Text
}

// matcher tests one text.
type matcher interface{ matchText(v []byte) bool }

// some tells whether the property, or any element of a list, meets m. A
// missing property is the empty text to tests of texts.
func (p property) some(r *record.Record, m matcher) bool {
	if p.which != field {
		return m.matchText(p.of(r))
	}
	v := p.path.Find(r)
	if !v.Exists() {
		return m.matchText(nil)
	}
	return someValue(v, m)
}

func someValue(v record.Value, m matcher) bool {
	switch v.Kind() {
	case record.String, record.Number, record.Bool:
		return m.matchText(v.Text())
	case record.List:
		for c := v.First(); c.More(); c = c.Next() {
			if someValue(c, m) {
				return true
			}
		}
	}
	return false
}

func (p property) exists(r *record.Record) bool {
	if p.which != field {
		return p.of(r) != nil
	}
	return p.path.Find(r).Exists()
}

// says tells the value, for an explanation.
func (p property) says(r *record.Record) string {
	if p.which != field {
		v := p.of(r)
		return says(p.String(), v, v != nil)
	}
	v := p.path.Find(r)
	if v.Exists() && v.Kind() != record.String {
		return "it is " + record.Clip(v.AppendJSON(nil))
	}
	return says("it", v.Text(), v.Exists())
}

// Path leads to a field through objects within each other.
type Path []pathPart

type pathPart struct {
	name    string
	literal bool // stood in quotes: it is one whole name
}

// String returns the path as a condition has it.
func (p Path) String() string {
	var parts []string
	for _, part := range p {
		if part.literal {
			parts = append(parts, quote(part.name))
		} else {
			parts = append(parts, part.name)
		}
	}
	return strings.Join(parts, ".")
}

// Find returns the field at the path. At each level the longest name wins that
// the next parts of the path make together; a part in quotes stands alone.
func (p Path) Find(r *record.Record) record.Value {
	if !r.HasFields() {
		return record.Value{}
	}
	v := r.Fields().Root()
	for len(p) > 0 {
		best, used := record.Value{}, 0
		if v.Kind() == record.Object {
			for c := v.First(); c.More(); c = c.Next() {
				if n := p.Fits(c.Key()); n > used {
					best, used = c, n
				}
			}
		}
		if used == 0 {
			return record.Value{}
		}
		v, p = best, p[used:]
	}
	return v
}

// Fits returns how many parts of the path together are key, 0 if none are.
func (p Path) Fits(key []byte) int {
	at := 0
	for i, part := range p {
		if i > 0 {
			if part.literal || at == len(key) || key[at] != '.' {
				return 0
			}
			at++
		}
		if !strings.HasPrefix(string(key[at:]), part.name) {
			return 0
		}
		at += len(part.name)
		if at == len(key) {
			return i + 1
		}
		if part.literal {
			return 0
		}
	}
	return 0
}

// greatest bounds the numbers that NumberOf returns, so that they can be kept anywhere.
const greatest = 1e300

// NumberOf returns the number that a value is, or that its text reads as; of a list the first
// that is one. It is false where there is none.
func NumberOf(v record.Value) (n float64, is bool) {
	switch v.Kind() {
	case record.String, record.Number:
		n, is = readNumber(v.Text())
		return max(-greatest, min(n, greatest)), is
	case record.List:
		for c := v.First(); c.More(); c = c.Next() {
			if n, is = NumberOf(c); is {
				return n, true
			}
		}
	}
	return 0, false
}

// readNumber reads a text that is a number as a whole: [-+]digits[.digits][e…].
func readNumber(v []byte) (float64, bool) {
	if n := record.NumberLen(v); n == 0 || n != len(v) {
		return 0, false
	}
	n, err := strconv.ParseFloat(string(v), 64)
	return n, err == nil || n != 0 // too large is infinite, and compares so
}
