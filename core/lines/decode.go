package lines

import (
	"bytes"
	"strconv"

	"oakbarrel/core/record"
)

// The usual names of what is looked for.
var (
	usualTime     = []string{"time", "timestamp", "ts", "@timestamp"}
	usualSeverity = []string{"level", "severity", "lvl"}
	usualText     = []string{"msg", "message", "text"}
)

func orUsual(names, usual []string) []string {
	if names == nil {
		return usual
	}
	return names
}

// decode fills r, whose text is that of its line, as the form tells. A line of
// another form stays text, and Unparsed says so.
func (m *Maker) decode(out *Out, r *record.Record) {
	switch m.settings.Decode.Form {
	case JSON:
		r.Unparsed = !m.decodeJSON(out, r)
	case KeyValue:
		r.Unparsed = !m.decodeKeyValue(out, r)
	case Pattern:
		r.Unparsed = !m.decodePattern(out, r)
	case Syslog:
		m.decodeSyslog(out, r)
	}
	if m.settings.Decode.Form == Plain || r.Unparsed {
		m.find(r)
	}
	if m.settings.Decode.Form != JSON && m.settings.Decode.Form != KeyValue || r.Unparsed {
		m.addFields(out, r)
	}
}

// find looks for severity and time in free text.
func (m *Maker) find(r *record.Record) {
	text := r.Text
	if !m.settings.Join.none() {
		text, _, _ = bytes.Cut(text, newline)
	}
	behind := 0
	if r.Time.IsZero() {
		if s, end, ok := m.findStamp(text, r.Received); ok {
			r.Time = s
			if end < len(text) && text[end] == ' ' {
				behind = end
			}
		}
	}
	if s, ok := findSeverity(text, behind); ok {
		m.setSeverity(r, s)
	}
}

var newline = []byte{'\n'}

func (m *Maker) setSeverity(r *record.Record, s record.Severity) {
	r.Priority = record.MakePriority(r.Facility(), s)
	m.named = true
}

// addFields adds the fields of the source to those of the record.
func (m *Maker) addFields(out *Out, r *record.Record) { m.settings.Fields.AddTo(out, r) }

// AddTo adds the fields to those of a record in out.
func (f Fields) AddTo(out *Out, r *record.Record) {
	if f.data == nil {
		return
	}
	if r.Data == nil {
		r.SetData(f.data)
		return
	}
	start := len(out.memory)
	if r.Data[0] == '{' {
		out.memory = append(append(append(out.memory, r.Data[:len(r.Data)-1]...), ','), f.member...)
		out.memory = append(out.memory, '}')
	} else {
		out.memory = append(append(out.memory, r.Data...), f.data...)
	}
	r.SetData(out.memory[start:len(out.memory):len(out.memory)])
}

func (m *Maker) decodeJSON(out *Out, r *record.Record) bool {
	if len(r.Text) == 0 || r.Text[0] != '{' || out.tree.ParseJSON(r.Text) != nil {
		return false
	}
	m.takeFields(out, r)
	return true
}

// takeFields takes severity, time and text out of the tree of out; the rest of
// it becomes the record's fields. Without a text, that of the line stays.
func (m *Maker) takeFields(out *Out, r *record.Record) {
	root := out.tree.Root()
	d := &m.settings.Decode
	severity := named(root, orUsual(d.Severity, usualSeverity))
	if s, ok := severityOfValue(severity); ok {
		m.setSeverity(r, s)
	} else {
		severity = record.Value{}
	}
	at := named(root, orUsual(d.Time, usualTime))
	if s, ok := m.stampOfValue(at, r.Received); ok {
		r.Time = s
	} else {
		at = record.Value{}
	}
	text := named(root, orUsual(d.Text, usualText))
	if text.Kind() == record.String {
		r.Text = text.Text()
	} else {
		text = record.Value{}
	}
	start := len(out.memory)
	out.memory = append(out.memory, '{')
	for v := root.First(); v.More(); v = v.Next() {
		if v == severity || v == at || v == text {
			continue
		}
		out.memory = append(record.AppendJSONString(out.memory, v.Key()), ':')
		out.memory = append(v.AppendJSON(out.memory), ',')
	}
	out.memory = append(out.memory, m.settings.Fields.member...)
	if last := len(out.memory) - 1; out.memory[last] == ',' {
		out.memory = out.memory[:last]
	}
	if out.memory = append(out.memory, '}'); len(out.memory)-start > 2 {
		r.SetData(out.memory[start:len(out.memory):len(out.memory)])
	}
	r.Text = out.Keep(r.Text) // it may stand in the tree, which is used again
}

// named returns the first of several values that is there.
func named(root record.Value, names []string) record.Value {
	for _, name := range names {
		for v := root.First(); v.More(); v = v.Next() {
			if string(v.Key()) == name {
				return v
			}
		}
	}
	return record.Value{}
}

// severityOfValue reads a severity that is a word, a number of syslog's, or one
// of the scale that counts in tens from trace.
func severityOfValue(v record.Value) (record.Severity, bool) {
	if v.Kind() == record.Number {
		n, err := strconv.Atoi(string(v.Text()))
		tens := []record.Severity{record.Debug, record.Debug, record.Info, record.Warning, record.Error, record.Critical}
		switch {
		case err != nil || n < 0 || n > 60 || n > 7 && n%10 > 0:
			return 0, false
		case n <= 7:
			return record.Severity(n), true
		}
		return tens[n/10-1], true
	}
	return ParseWord(v.Text())
}

// decodeKeyValue reads level=warn msg="two words" took=12ms: a bare key is true.
func (m *Maker) decodeKeyValue(out *Out, r *record.Record) bool {
	start := len(out.memory)
	object, pairs := appendKeyValues(append(out.memory, '{'), r.Text)
	out.memory = object
	if pairs == 0 || out.tree.ParseJSON(object[start:]) != nil {
		out.memory = out.memory[:start]
		return false
	}
	m.takeFields(out, r)
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

// decodePattern reads a line by a regular expression. Groups with the names of
// properties set them, the others are fields.
func (m *Maker) decodePattern(out *Out, r *record.Record) bool {
	re := m.settings.Decode.Pattern
	line := r.Text
	found := re.FindSubmatchIndex(line)
	if found == nil {
		return false
	}
	start := len(out.memory)
	out.memory = append(out.memory, '{')
	for i, name := range re.SubexpNames() {
		if name == "" || found[2*i] < 0 {
			continue
		}
		value := line[found[2*i]:found[2*i+1]]
		if m.setProperty(r, name, value) {
			continue
		}
		if out.memory[len(out.memory)-1] != '{' {
			out.memory = append(out.memory, ',')
		}
		out.memory = append(record.AppendJSONString(out.memory, []byte(name)), ':')
		out.memory = record.AppendJSONString(out.memory, value)
	}
	if len(out.memory)-start == 1 {
		out.memory = out.memory[:start]
		return true
	}
	out.memory = append(out.memory, '}')
	r.SetData(out.memory[start:len(out.memory):len(out.memory)])
	return true
}

// setProperty sets the property with a name, and tells whether there is one
// that the value fits.
func (m *Maker) setProperty(r *record.Record, name string, value []byte) bool {
	switch name {
	case "time":
		s, ok := m.FindStamp(value, r.Received)
		if !ok {
			s, ok = stampOfNumber(value)
		}
		if ok {
			r.Time = s
		}
		return ok
	case "severity":
		s, ok := ParseWord(value)
		if ok {
			m.setSeverity(r, s)
		}
		return ok
	case "facility":
		f, ok := record.ParseFacility(string(value))
		if ok {
			r.Priority = record.MakePriority(f, r.Severity())
		}
		return ok
	case "host":
		r.Host = value
	case "app":
		r.App = value
	case "procid":
		r.ProcID = value
	case "msgid":
		r.MsgID = value
	case "text":
		r.Text = value
	default:
		return false
	}
	return true
}

// decodeSyslog reads a line as a syslog message. Files of them most often leave
// out the priority, which is the default then.
func (m *Maker) decodeSyslog(out *Out, r *record.Record) {
	line := r.Text
	if len(line) > 0 && line[0] == '<' {
		m.parser.Parse(r, line)
		m.named = !r.Unparsed
		return
	}
	start := len(out.memory)
	out.memory = append(strconv.AppendInt(append(out.memory, '<'), int64(r.Priority), 10), '>')
	out.memory = append(out.memory, line...)
	m.parser.Parse(r, out.memory[start:len(out.memory):len(out.memory)])
	if r.Unparsed {
		r.Text = line
	} else if s, ok := FindSeverity(r.Text); ok {
		m.setSeverity(r, s)
	}
}
