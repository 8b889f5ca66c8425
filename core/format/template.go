package format

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"oakbarrel/core/condition"
	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
)

// template is a line with places for properties.
type template []part

// part is a property and the text before it; the last part may have no property.
type part struct {
	text     string
	property *property
	held     bool // lines give the property back
}

// property is what may stand between braces. read is nil where a line cannot give it back,
// and fault says why. scan returns how many bytes of a line it takes, 0 where it does not
// stand there; it is nil for what can only be told by what comes behind it.
type property struct {
	name   string
	width  int // bytes that it takes at least
	append func(dst []byte, r *record.Record) []byte
	read   func(r *record.Record, v []byte) bool
	scan   func(line []byte) int
	fault  string

	endless bool // where it ends cannot be told, so that nothing behind it can be read
}

// missing stands for a property that a record does not have.
const missing = '-'

var properties = []property{
	{name: "time", append: func(dst []byte, r *record.Record) []byte { return r.Time.Append(dst, 9) }, read: func(r *record.Record, v []byte) bool { return readStamp(&r.Time, v) }},
	{name: "received", append: func(dst []byte, r *record.Record) []byte { return r.Received.Append(dst, 9) }, read: func(r *record.Record, v []byte) bool { return readStamp(&r.Received, v) }},
	{name: "facility", append: func(dst []byte, r *record.Record) []byte { return append(dst, r.Facility().String()...) }, read: readFacility},
	{name: "severity", append: func(dst []byte, r *record.Record) []byte { return append(dst, r.Severity().String()...) }, read: readSeverity},
	{name: "host", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, r.Host) }, read: func(r *record.Record, v []byte) bool { return readText(&r.Host, v) }},
	{name: "agent", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, r.Agent) }, read: func(r *record.Record, v []byte) bool { return readText(&r.Agent, v) }},
	{name: "app", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, r.App) }, read: func(r *record.Record, v []byte) bool { return readText(&r.App, v) }},
	{name: "procid", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, r.ProcID) }, read: func(r *record.Record, v []byte) bool { return readText(&r.ProcID, v) }},
	{name: "msgid", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, r.MsgID) }, read: func(r *record.Record, v []byte) bool { return readText(&r.MsgID, v) }},
	{name: "text", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, r.Text) }, read: func(r *record.Record, v []byte) bool { return readText(&r.Text, v) }},
	{name: "unit", append: appendUnit, read: readField(unitName)},
	{name: "fields", append: appendFields, read: readFields, scan: scanFields},
	{name: "intake", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, []byte(r.Intake)) }, read: func(r *record.Record, v []byte) bool { r.Intake = string(v); return true }},
	{name: "peer", append: appendPeer, read: readPeer},
	{name: "stream", append: func(dst []byte, r *record.Record) []byte { return appendText(dst, []byte(r.Stream.String())) }, read: readStream},
}

// unitName is the field in which the journal tells the unit of a record.
const unitName = "journal@32473.unit"

// unitOf returns the unit of a record, nil where it has none.
func unitOf(r *record.Record) []byte {
	if v := condition.UnitPath.Find(r); v.Exists() && v.Kind() == record.String {
		return v.Text()
	}
	return nil
}

func appendUnit(dst []byte, r *record.Record) []byte { return appendText(dst, unitOf(r)) }

func appendText(dst, v []byte) []byte {
	if v == nil {
		return append(dst, missing)
	}
	return record.AppendVisible(dst, v)
}

func appendFields(dst []byte, r *record.Record) []byte {
	if !r.HasFields() {
		return append(dst, missing)
	}
	return r.Fields().Root().AppendJSON(dst)
}

// readFields reads fields that were written as JSON.
func readFields(r *record.Record, v []byte) bool {
	if len(v) == 1 && v[0] == missing {
		return true
	}
	if _, ok := record.ScanObject(v, nil); !ok {
		return false
	}
	r.SetData(v)
	return true
}

func scanFields(line []byte) int {
	if len(line) > 0 && line[0] == missing {
		return 1
	}
	if len(line) == 0 || line[0] != '{' {
		return 0
	}
	return record.NestedLen(line)
}

// readField returns what reads one field by its path, of which it makes one name: a
// condition finds it by that as well.
func readField(path string) func(r *record.Record, v []byte) bool {
	return func(r *record.Record, v []byte) bool {
		if len(v) == 1 && v[0] == missing {
			return true
		}
		object := []byte{'{'}
		if r.Data != nil {
			object = append(append(object, r.Data[1:len(r.Data)-1]...), ',')
		}
		object = append(record.AppendJSONString(object, []byte(path)), ':')
		if record.NestedLen(v) == len(v) && len(v) > 0 {
			object = append(object, v...)
		} else {
			object = record.AppendJSONString(object, v)
		}
		r.SetData(append(object, '}'))
		return true
	}
}

func readPeer(r *record.Record, v []byte) bool {
	if len(v) == 1 && v[0] == missing {
		return true
	}
	if addr, err := netip.ParseAddrPort(string(v)); err == nil {
		r.Peer = &record.Peer{Addr: addr}
		return true
	}
	p := new(record.Peer)
	_, err := fmt.Sscanf(string(v), "pid %d uid %d", &p.PID, &p.UID)
	r.Peer = p
	return err == nil
}

func readStream(r *record.Record, v []byte) bool {
	for s := record.NoStream; s <= record.Stderr; s++ {
		if string(v) == s.String() || s == record.NoStream && string(v) == string(missing) {
			r.Stream = s
			return true
		}
	}
	return false
}

func appendPeer(dst []byte, r *record.Record) []byte {
	if r.Peer == nil {
		return append(dst, missing)
	}
	return r.Peer.AppendText(dst)
}

func readStamp(s *record.Stamp, v []byte) bool {
	stamp, n, ok := record.ParseStamp(v)
	*s = stamp
	return ok && n == len(v)
}

func readText(to *[]byte, v []byte) bool {
	if len(v) != 1 || v[0] != missing {
		*to = v
	}
	return true
}

func readFacility(r *record.Record, v []byte) bool {
	f, ok := record.ParseFacility(string(v))
	r.Priority = record.MakePriority(f, r.Severity())
	return ok
}

func readSeverity(r *record.Record, v []byte) bool {
	s, ok := record.ParseSeverity(string(v))
	r.Priority = record.MakePriority(r.Facility(), s)
	return ok
}

// parseTemplate reads a template; {{ and }} stand for braces.
func parseTemplate(s string) (template, error) {
	var t template
	var text strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case record.Dangerous(r):
			return nil, &Error{i, "a control character may not stand in a format", "a record is one line; write spaces between the parts"}
		case strings.HasPrefix(s[i:], "{{"), strings.HasPrefix(s[i:], "}}"):
			text.WriteByte(s[i])
			size = 2
		case r == '}':
			return nil, &Error{i, "this } closes nothing", "write }} for a brace"}
		case r == '{':
			name, _, closed := strings.Cut(s[i+1:], "}")
			if !closed {
				return nil, &Error{i, "this { is not closed", "write {NAME}, or {{ for a brace"}
			}
			p, err := parsePlace(name, i+1)
			if err != nil {
				return nil, err
			}
			t = append(t, part{text: text.String(), property: p})
			text.Reset()
			size = len(name) + 2
		default:
			text.WriteRune(r)
		}
		i += size
	}
	return append(t, part{text: text.String()}), nil
}

func findProperty(name string, at int) (*property, error) {
	var names []string
	for i := range properties {
		if strings.EqualFold(name, properties[i].name) {
			return &properties[i], nil
		}
		names = append(names, properties[i].name)
	}
	mend := "known are " + strings.Join(names, ", ")
	if word, ok := nearest.Word(name, names); ok {
		mend = fmt.Sprintf("did you mean {%s}?", word)
	}
	return nil, &Error{at, fmt.Sprintf("a record has no property %q", name), mend}
}

func (t template) append(dst []byte, r *record.Record) []byte {
	for i := range t {
		dst = append(dst, t[i].text...)
		if t[i].property != nil {
			dst = t[i].property.append(dst, r)
		}
	}
	return dst
}

// held returns what lines of the template give back, and why some of its places do not.
func (t template) held() (held, faults []string) {
	held = []string{}
	beside := false // the place before stands at this one without a sign between them
	for i, p := range t {
		if p.property == nil {
			break
		}
		next := t[i+1]
		toNext := next.property != nil && next.text == "" && p.property.scan == nil
		switch {
		case p.property.fault != "":
			faults = append(faults, p.property.fault)
		case p.property.read == nil:
			faults = append(faults, fmt.Sprintf("{%s} cannot be read back", p.property.name))
		case toNext:
			faults = append(faults, fmt.Sprintf("where {%s} ends and {%s} begins cannot be told; write a sign between them", p.property.name, next.property.name))
		case !beside:
			held = append(held, p.property.name)
			t[i].held = true
		}
		if beside = toNext; p.property.endless {
			break
		}
	}
	return held, faults
}

var errNotOurs = errors.New("the line does not have this format")

// read finds each property between the texts around it. Where a value holds the text
// that comes after it, the first place counts, but for one that is known by its own form.
func (t template) read(r *record.Record, line []byte) error {
	r.Priority = record.DefaultPriority
	for i, p := range t {
		rest, found := bytes.CutPrefix(line, []byte(p.text))
		if !found {
			return errNotOurs
		}
		line = rest
		if p.property == nil {
			break
		}
		end := t.endOf(i, line)
		if end < 0 || p.held && !p.property.read(r, line[:end]) {
			return errNotOurs
		}
		line = line[end:]
	}
	if len(line) > 0 {
		return errNotOurs
	}
	return nil
}

// endOf returns where the value of place i ends, with which the line begins, -1 where the
// rest does not fit.
func (t template) endOf(i int, line []byte) int {
	p, next := t[i].property, t[i+1]
	if p.scan != nil {
		if n := p.scan(line); n > 0 && bytes.HasPrefix(line[n:], []byte(next.text)) {
			return n
		}
		return -1
	}
	switch {
	case next.text == "" && next.property == nil:
		return len(line)
	case next.text == "": // the next one takes both
		return 0
	case next.property != nil && next.property.scan != nil:
		return t.endBefore(i+1, line, p.width)
	}
	if last := !slices.ContainsFunc(t[i+1:], func(p part) bool { return p.property != nil }); last {
		return bytes.LastIndex(line, []byte(next.text))
	}
	from := min(p.width, len(line))
	if end := bytes.Index(line[from:], []byte(next.text)); end >= 0 {
		return from + end
	}
	return -1
}

// endBefore returns where a value ends before place i, which is known by its own form.
func (t template) endBefore(i int, line []byte, from int) int {
	text, behind := []byte(t[i].text), []byte(t[i+1].text)
	last := !slices.ContainsFunc(t[i+1:], func(p part) bool { return p.property != nil })
	for at := min(from, len(line)); at <= len(line); at++ {
		next := bytes.Index(line[at:], text)
		if next < 0 {
			return -1
		}
		at += next
		rest := line[at+len(text):]
		if n := t[i].property.scan(rest); n > 0 && bytes.HasPrefix(rest[n:], behind) && (!last || len(rest) == n+len(behind)) {
			return at
		}
	}
	return -1
}
