package decode

import (
	"bytes"
	"strconv"

	"oakbarrel/core/record"
)

// pattern reads a text by a regular expression. Groups with the names of properties set
// them, the others are fields.
func (d *Decoder) pattern(r *record.Record, s *Step, text []byte) bool {
	found := s.Pattern.FindSubmatchIndex(text)
	if found == nil {
		return false
	}
	start := d.begin()
	for i, name := range s.Pattern.SubexpNames() {
		if name != "" && found[2*i] >= 0 {
			d.put(r, name, text[found[2*i]:found[2*i+1]])
		}
	}
	d.setFields(r, d.end(start))
	return true
}

// csv reads values in columns, with or without quotes (RFC 4180). There must be as many.
func (d *Decoder) csv(r *record.Record, s *Step, text []byte) bool {
	if countColumns(text, s.Separator) != len(s.Columns) {
		return false
	}
	start := d.begin()
	rest := text
	for _, name := range s.Columns {
		var value []byte
		value, rest = d.nextColumn(rest, s.Separator)
		if name != "" && len(value) > 0 {
			d.put(r, name, value)
		}
	}
	d.setFields(r, d.end(start))
	return true
}

func countColumns(text []byte, separator byte) int {
	n, quoted := 1, false
	for _, c := range text {
		switch {
		case c == '"':
			quoted = !quoted
		case c == separator && !quoted:
			n++
		}
	}
	return n
}

// nextColumn returns the first value of a line, and what follows on it.
func (d *Decoder) nextColumn(b []byte, separator byte) (value, rest []byte) {
	if len(b) == 0 || b[0] != '"' {
		value, rest, _ = bytes.Cut(b, []byte{separator})
		return value, rest
	}
	end, doubled := 1, false
	for ; end < len(b); end++ {
		if b[end] != '"' {
			continue
		}
		if end+1 == len(b) || b[end+1] != '"' {
			break
		}
		doubled = true
		end++
	}
	value = b[1:min(end, len(b))]
	if doubled {
		value = bytes.ReplaceAll(value, []byte(`""`), []byte(`"`))
	}
	_, rest, _ = bytes.Cut(b[min(end+1, len(b)):], []byte{separator})
	return value, rest
}

// put sets the property with a name, or makes a field of what is none. The word for a
// severity that is not syslog's own is kept as a field.
func (d *Decoder) put(r *record.Record, name string, value []byte) {
	if !d.setProperty(r, name, value) {
		d.text(name, value)
		return
	}
	if name == "severity" && !isOwnWord(value) {
		d.text(string(levelKey), value)
	}
}

// setProperty sets the property with a name, and tells whether there is one
// that the value fits.
func (d *Decoder) setProperty(r *record.Record, name string, value []byte) bool {
	switch name {
	case "time":
		s, ok := d.FindStamp(value, r.Received)
		if !ok {
			s, ok = stampOfNumber(value)
		}
		if ok {
			r.Time = s
		}
		return ok
	case "severity":
		s, ok := d.Reading.parseLevel(value)
		if ok {
			d.setSeverity(r, s)
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

// Properties are the names of groups and columns that set properties.
var Properties = []string{"time", "severity", "facility", "host", "app", "procid", "msgid", "text"}

// syslog reads a text as a syslog message. Files of them most often leave out the
// priority, which is that of the record then.
func (d *Decoder) syslog(r *record.Record, text []byte) bool {
	d.parser.Zone, d.parser.Default = d.Reading.Zone, r.Priority
	p := &d.parsed
	p.Reset()
	p.Received = r.Received
	bare := text[0] != '<'
	message := text
	if bare {
		start := len(d.Memory)
		d.Memory = append(strconv.AppendInt(append(d.Memory, '<'), int64(r.Priority), 10), '>')
		d.Memory = append(d.Memory, text...)
		message = d.Memory[start:len(d.Memory):len(d.Memory)]
	}
	d.parser.Parse(p, message)
	if p.Unparsed {
		return false
	}
	r.Priority, r.Text = p.Priority, p.Text
	if p.Time != p.Received || r.Time.IsZero() {
		r.Time = p.Time
	}
	for _, of := range []struct{ to, from *[]byte }{{&r.Host, &p.Host}, {&r.App, &p.App}, {&r.ProcID, &p.ProcID}, {&r.MsgID, &p.MsgID}} {
		if *of.from != nil {
			*of.to = *of.from
		}
	}
	if p.Data != nil {
		start := len(d.Memory)
		if !r.HasFields() {
			r.SetData(p.Data)
		} else {
			d.Memory = p.Fields().Root().AppendJSON(d.Memory)
			d.setFields(r, d.Memory[start:len(d.Memory):len(d.Memory)])
		}
	}
	if d.Named = !bare; bare {
		if s, ok := d.Reading.findSeverity(r.Text, 0); ok {
			d.setSeverity(r, s)
		}
	}
	return true
}
