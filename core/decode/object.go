package decode

import (
	"bytes"

	"oakbarrel/core/record"
)

// names are the names under which a part of a record is looked for, the first of them first.
type names []string

// The usual names of what is looked for.
var (
	usualTime     = names{"time", "timestamp", "ts", "@timestamp"}
	usualSeverity = names{"level", "severity", "lvl", "levelname", "log.level"}
	usualText     = names{"msg", "message", "text"}
)

func orUsual(own []string, usual names) names {
	if own == nil {
		return usual
	}
	return own
}

// place returns the place of a name among the names, their number where it is none of them.
func (n names) place(key []byte) int {
	for i, name := range n {
		if len(name) == len(key) && name == string(key) {
			return i
		}
	}
	return len(n)
}

// usual tells whether the usual names are looked for.
func (s *Step) usual() bool { return s.Time == nil && s.Severity == nil && s.Text == nil }

// mayBeUsual rules out most names that are none of the usual ones.
func mayBeUsual(key []byte) bool {
	if len(key) < 2 || len(key) > 10 {
		return false
	}
	switch key[0] {
	case 't', 'l', 's', 'm', '@':
		return true
	}
	return false
}

// json reads an object, also one behind a prefix, which is the text then.
func (d *Decoder) json(r *record.Record, s *Step, text []byte) bool {
	at := bytes.IndexByte(text, '{')
	if at < 0 {
		return false
	}
	if at > 0 && text[0] != ' ' && text[at-1] != ' ' && text[at-1] != ':' && text[at-1] != '\t' {
		return false // in the middle of a word
	}
	for tries := 0; ; tries++ {
		var ok bool
		if d.members, ok = record.ScanObject(text[at:], d.members[:0]); ok {
			break
		}
		next := bytes.IndexByte(text[at+1:], '{')
		if at == 0 || next < 0 || tries == mostPrefixes {
			return false // an object that is broken
		}
		at += 1 + next
	}
	d.takeMembers(r, s, text[at:], bytes.TrimRight(text[:at], " \t"))
	return true
}

// mostPrefixes bounds how many braces may stand before the object.
const mostPrefixes = 4

// takeMembers takes severity, time and text out of the members of an object; the rest of
// them become fields. Without a text, the whole stays, or the prefix before the object.
func (d *Decoder) takeMembers(r *record.Record, s *Step, object, prefix []byte) {
	severity, at, text := -1, -1, -1
	severities, times, texts := orUsual(s.Severity, usualSeverity), orUsual(s.Time, usualTime), orUsual(s.Text, usualText)
	bestSeverity, bestTime, bestText := len(severities), len(times), len(texts)
	for i := range d.members {
		key := d.members[i].Key(object)
		if s.usual() && !mayBeUsual(key) {
			continue
		}
		if p := severities.place(key); p < bestSeverity {
			severity, bestSeverity = i, p
		}
		if p := times.place(key); p < bestTime {
			at, bestTime = i, p
		}
		if p := texts.place(key); p < bestText {
			text, bestText = i, p
		}
	}
	var level []byte // the word for a severity that is not syslog's own
	if severity >= 0 {
		m := &d.members[severity]
		if found, ok := d.severityOf(object, m); !ok {
			severity = -1
		} else if d.setSeverity(r, found); !isOwnWord(m.Text(object)) {
			level = object[m.Value:m.End]
		}
	}
	if at >= 0 && !d.setTime(r, object, &d.members[at]) {
		at = -1
	}
	switch {
	case s.From != nil:
		text = -1
	case len(prefix) > 0:
		if r.Text, text = prefix, -1; !d.Named {
			d.find(r, prefix)
		}
	case text >= 0 && d.members[text].IsString(object):
		r.Text = d.plain(object, &d.members[text])
	default:
		text = -1
	}
	start := d.begin()
	if level != nil {
		d.name(levelKey)
		d.Memory = append(d.Memory, level...)
	}
	for i := range d.members {
		m := &d.members[i]
		if i == severity || i == at || i == text || level != nil && string(m.Key(object)) == "level" {
			continue
		}
		if d.Memory[len(d.Memory)-1] != '{' {
			d.Memory = append(d.Memory, ',')
		}
		d.Memory = append(d.Memory, m.Whole(object)...)
	}
	d.setFields(r, d.end(start))
}

// levelKey is the field that keeps the word that a program has for a severity, where
// syslog has another: trace and fatal are not lost.
var levelKey = []byte("level")

// isOwnWord tells whether a value is a word, or the number, that syslog has for a severity.
func isOwnWord(v []byte) bool {
	if len(v) == 1 {
		return v[0]-'0' <= 7
	}
	_, own := record.ParseSeverity(string(v))
	return own
}

// severityOf reads the severity that a member names: a text or a number.
func (d *Decoder) severityOf(object []byte, m *record.Member) (record.Severity, bool) {
	if m.Escaped || !m.IsString(object) && object[m.Value]-'0' > 9 {
		return 0, false
	}
	return d.Reading.parseLevel(m.Text(object))
}

// setTime sets the time that a member holds: a text, or seconds, or a finer unit, since 1970.
func (d *Decoder) setTime(r *record.Record, object []byte, m *record.Member) bool {
	if m.IsString(object) {
		if s, ok := d.FindStamp(m.Text(object), r.Received); ok {
			r.Time = s
			return true
		}
	}
	s, ok := stampOfNumber(m.Text(object))
	if ok {
		r.Time = s
	}
	return ok
}

// plain returns the text of a string, without its escapes.
func (d *Decoder) plain(object []byte, m *record.Member) []byte {
	if !m.Escaped {
		return m.Text(object)
	}
	start := len(d.Memory)
	d.Memory = append(append(append(d.Memory, `{"t":`...), object[m.Value:m.End]...), '}')
	d.tree.ParseJSON(d.Memory[start:]) // it is well formed
	return d.Keep(d.tree.Root().First().Text())
}

// keyValue reads level=warn msg="two words" took=12ms: a bare key is true.
func (d *Decoder) keyValue(r *record.Record, s *Step, text []byte) bool {
	start := len(d.Memory)
	object, pairs := appendKeyValues(append(d.Memory, '{'), text)
	d.Memory = object
	ok := false
	if pairs > 0 {
		d.members, ok = record.ScanObject(object[start:], d.members[:0])
	}
	if !ok {
		d.Memory = object[:start]
		return false
	}
	d.takeMembers(r, s, object[start:], nil)
	return true
}

// appendKeyValues writes the pairs of a line as the members of an object, and
// its end. It counts those that have a value.
func appendKeyValues(dst, line []byte) (object []byte, pairs int) {
	for at := 0; at < len(line); {
		if line[at] == ' ' || line[at] == '\t' {
			at++
			continue
		}
		start := at
		for at < len(line) && line[at] != ' ' && line[at] != '\t' && line[at] != '=' {
			at++
		}
		key := line[start:at]
		if len(key) == 0 { // a sign of equality alone
			at++
			continue
		}
		if dst[len(dst)-1] != '{' {
			dst = append(dst, ',')
		}
		dst = append(record.AppendJSONString(dst, key), ':')
		if at == len(line) || line[at] != '=' {
			dst = append(dst, "true"...)
			continue
		}
		var value []byte
		value, at = scanValue(line, at+1)
		dst = record.AppendJSONString(dst, value)
		pairs++
	}
	return append(dst, '}'), pairs
}

// scanValue reads the value at line[at:], in quotes or not.
func scanValue(line []byte, at int) (value []byte, end int) {
	if at == len(line) || line[at] != '"' {
		for end = at; end < len(line) && line[end] != ' ' && line[end] != '\t'; {
			end++
		}
		return line[at:end], end
	}
	escaped := false
	for end = at + 1; end < len(line) && line[end] != '"'; end++ {
		if line[end] == '\\' && end+1 < len(line) {
			end++
			escaped = true
		}
	}
	value = line[at+1 : min(end, len(line))]
	if escaped {
		value = unescape(value)
	}
	return value, min(end+1, len(line))
}

// unescape undoes \n, \t and \r; before anything else a backslash is left out.
func unescape(v []byte) []byte {
	plain := make([]byte, 0, len(v))
	for i := 0; i < len(v); i++ {
		c := v[i]
		if c == '\\' && i+1 < len(v) {
			i++
			switch c = v[i]; c {
			case 'n':
				c = '\n'
			case 't':
				c = '\t'
			case 'r':
				c = '\r'
			}
		}
		plain = append(plain, c)
	}
	return plain
}
