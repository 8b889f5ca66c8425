package format

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
)

// template is a line with places for properties.
type template []part

// part is a property and the text before it; the last part may have no property.
type part struct {
	text     string
	property *property
}

// property is what may stand between braces. read is nil where a line cannot give it back.
type property struct {
	name   string
	width  int // bytes that it takes at least
	append func(dst []byte, r *record.Record) []byte
	read   func(r *record.Record, v []byte) bool
}

// missing stands for a property that a record does not have.
const missing = '-'

var properties = []property{
	{"time", 0, func(dst []byte, r *record.Record) []byte { return r.Time.Append(dst, 9) }, func(r *record.Record, v []byte) bool { return readStamp(&r.Time, v) }},
	{"received", 0, func(dst []byte, r *record.Record) []byte { return r.Received.Append(dst, 9) }, func(r *record.Record, v []byte) bool { return readStamp(&r.Received, v) }},
	{"facility", 0, func(dst []byte, r *record.Record) []byte { return append(dst, r.Facility().String()...) }, readFacility},
	{"severity", 0, func(dst []byte, r *record.Record) []byte { return append(dst, r.Severity().String()...) }, readSeverity},
	{"host", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, r.Host) }, func(r *record.Record, v []byte) bool { return readText(&r.Host, v) }},
	{"agent", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, r.Agent) }, func(r *record.Record, v []byte) bool { return readText(&r.Agent, v) }},
	{"app", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, r.App) }, func(r *record.Record, v []byte) bool { return readText(&r.App, v) }},
	{"procid", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, r.ProcID) }, func(r *record.Record, v []byte) bool { return readText(&r.ProcID, v) }},
	{"msgid", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, r.MsgID) }, func(r *record.Record, v []byte) bool { return readText(&r.MsgID, v) }},
	{"text", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, r.Text) }, func(r *record.Record, v []byte) bool { return readText(&r.Text, v) }},
	{"fields", 0, appendFields, nil},
	{"intake", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, []byte(r.Intake)) }, func(r *record.Record, v []byte) bool { r.Intake = string(v); return true }},
	{"peer", 0, appendPeer, nil},
	{"stream", 0, func(dst []byte, r *record.Record) []byte { return appendText(dst, []byte(r.Stream.String())) }, nil},
}

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
			t = append(t, part{text.String(), p})
			text.Reset()
			size = len(name) + 2
		default:
			text.WriteRune(r)
		}
		i += size
	}
	return append(t, part{text.String(), nil}), nil
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

var errNotOurs = errors.New("the line does not have this format")

// read finds each property between the texts around it. Where a value holds
// the text that comes after it, the first place counts.
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
		end := len(line)
		if next := t[i+1].text; next != "" {
			from := min(p.property.width, len(line))
			if end = bytes.Index(line[from:], []byte(next)); end >= 0 {
				end += from
			}
			if last := !slices.ContainsFunc(t[i+1:], func(p part) bool { return p.property != nil }); last {
				end = bytes.LastIndex(line, []byte(next))
			}
			if end < 0 {
				return errNotOurs
			}
		}
		if p.property.read != nil && !p.property.read(r, line[:end]) {
			return errNotOurs
		}
		line = line[end:]
	}
	if len(line) > 0 {
		return errNotOurs
	}
	return nil
}
