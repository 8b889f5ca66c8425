package format

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

// A place in a template may have options behind its name, as in
// {severity upper width 9} or {time in UTC as "YYYY-MM-DD hh:mm:ss.fff"}.

// option is a word of a place, with where it stands.
type option struct {
	text   string
	quoted bool
	offset int
}

// splitOptions splits what stands between braces into words; texts in double
// quotes are one. Offset is that of s.
func splitOptions(s string, offset int) (words []option, err error) {
	for i := 0; i < len(s); {
		switch {
		case s[i] == ' ':
			i++
		case s[i] == '"' && (i == 0 || s[i-1] == ' '):
			end := strings.IndexByte(s[i+1:], '"')
			if end < 0 {
				return nil, &Error{offset + i, "this \" is not closed", "write \"…\""}
			}
			words = append(words, option{s[i+1 : i+1+end], true, offset + i})
			i += end + 2
		default:
			end := strings.IndexByte(s[i:], ' ')
			if end < 0 {
				end = len(s) - i
			}
			words = append(words, option{s[i : i+end], false, offset + i})
			i += end
		}
	}
	return words, nil
}

// place is what options have made of a property.
type place struct {
	property
	upper, lower bool
	width        int // in characters; less are filled up with spaces
	missing      []byte
	zone         *time.Location // of a time, nil for the one it came with
	layout       string         // of a time, in Go's form; "" for RFC 3339
	unix         bool           // a time is seconds since 1970
	keyValue     bool           // fields are key=value pairs
	endless      bool           // where it ends cannot be told
}

// parsePlace reads what stands between braces.
func parsePlace(s string, offset int) (*property, error) {
	words, err := splitOptions(s, offset)
	if err != nil {
		return nil, err
	}
	if len(words) == 0 {
		words = []option{{"", false, offset}}
	}
	if strings.EqualFold(words[0].text, "field") {
		return parseFieldPlace(words)
	}
	p, err := findProperty(words[0].text, words[0].offset)
	if err != nil || len(words) == 1 {
		return p, err
	}
	return (&place{property: *p, missing: []byte{missing}}).with(words[1:])
}

// parseFieldPlace reads "field PATH" and the options behind it.
func parseFieldPlace(words []option) (*property, error) {
	if len(words) == 1 {
		return nil, &Error{words[0].offset, "field needs a path", "write {field tank@32473.ph}, or {fields} for all"}
	}
	path, err := condition.ParsePath(words[1].text)
	if err != nil {
		problem := err.(*condition.Error)
		return nil, &Error{words[1].offset + problem.Offset, problem.What, problem.Mend}
	}
	p := property{name: "field " + path.String(), append: func(dst []byte, r *record.Record) []byte {
		switch v := path.Find(r); {
		case !v.Exists():
			return append(dst, missing)
		case v.Kind() == record.String:
			return record.AppendVisible(dst, v.Text())
		default:
			return v.AppendJSON(dst)
		}
	}, read: readField(strings.ReplaceAll(path.String(), `"`, ""))}
	return (&place{property: p, missing: []byte{missing}}).with(words[2:])
}

// with reads the options of a place, and returns the property that they make.
func (p *place) with(words []option) (*property, error) {
	isTime := p.name == "time" || p.name == "received"
	for len(words) > 0 {
		w := words[0]
		words = words[1:]
		argument := func(example string) (option, error) {
			if len(words) == 0 {
				return option{}, &Error{w.offset, w.text + " needs a value", "write " + example}
			}
			next := words[0]
			words = words[1:]
			return next, nil
		}
		switch word := strings.ToLower(w.text); {
		case word == "upper":
			p.upper, p.lower = true, false
		case word == "lower":
			p.upper, p.lower = false, true
		case word == "width":
			v, err := argument("width 12")
			if err != nil {
				return nil, err
			}
			if p.width, err = strconv.Atoi(v.text); err != nil || p.width < 1 || p.width > 1000 {
				return nil, &Error{v.offset, fmt.Sprintf("width cannot be %q", v.text), "write a number of characters from 1 to 1000"}
			}
		case word == "else":
			v, err := argument(`else "none"`)
			if err != nil {
				return nil, err
			}
			p.missing = []byte(v.text)
		case word == "in" && isTime:
			v, err := argument("in UTC")
			if err != nil {
				return nil, err
			}
			if p.zone, err = time.LoadLocation(zoneName(v.text)); err != nil {
				return nil, &Error{v.offset, fmt.Sprintf("there is no time zone %q", v.text), "write in UTC, in local, or in Europe/Lisbon"}
			}
		case word == "as" && isTime:
			v, err := argument(`as "YYYY-MM-DD hh:mm:ss.fff"`)
			if err != nil {
				return nil, err
			}
			if err := p.timeAs(v); err != nil {
				return nil, err
			}
		case word == "as" && p.name == "fields":
			v, err := argument("as keyvalue")
			if err != nil {
				return nil, err
			}
			switch strings.ToLower(v.text) {
			case "keyvalue":
				p.keyValue = true
			case "json":
			default:
				return nil, &Error{v.offset, fmt.Sprintf("fields cannot be written as %q", v.text), "write as keyvalue, or as json"}
			}
		default:
			known := "known are upper, lower, width N and else TEXT"
			if isTime {
				known += "; of a time in ZONE and as \"YYYY-MM-DD hh:mm:ss\" or as unix too"
			}
			return nil, &Error{w.offset, fmt.Sprintf("{%s} has no option %q", p.name, w.text), known}
		}
	}
	plain := p.append
	width := p.width
	if p.layout != "" { // all of its parts have as many characters always
		width = max(width, len(time.Time{}.Format(p.layout)))
	}
	made := &property{name: p.name, width: width, append: func(dst []byte, r *record.Record) []byte { return p.write(dst, r, plain) }}
	if made.fault = p.lossy(); made.fault != "" {
		made.endless = p.endless
		return made, nil
	}
	if p.width == 0 && len(p.missing) == 1 && p.missing[0] == missing {
		made.scan = p.scan
	}
	if read := p.read; read != nil {
		made.read = func(r *record.Record, v []byte) bool { return p.readBack(r, v, read) }
	}
	return made, nil
}

func zoneName(s string) string {
	if strings.EqualFold(s, "local") {
		return "Local"
	}
	if strings.EqualFold(s, "utc") {
		return "UTC"
	}
	return s
}

// timeTokens are the parts of a time as a template has them, and in Go's form.
var timeTokens = []struct{ token, layout string }{
	{"YYYY", "2006"}, {"MON", "Jan"}, {"MM", "01"}, {"DD", "02"}, {"hh", "15"}, {"mm", "04"}, {"ss", "05"}, {"zzz", "-07:00"}, {"T", "T"},
}

// timeAs reads the form of a time: unix, or a text with the parts of it.
func (p *place) timeAs(v option) error {
	if strings.EqualFold(v.text, "unix") && !v.quoted {
		p.unix = true
		return nil
	}
	var layout strings.Builder
next:
	for rest := v.text; rest != ""; {
		for _, t := range timeTokens {
			if after, found := strings.CutPrefix(rest, t.token); found {
				layout.WriteString(t.layout)
				rest = after
				continue next
			}
		}
		if digits := len(rest) - len(strings.TrimLeft(rest, "f")); digits > 0 && digits <= 9 && strings.HasSuffix(layout.String(), ".") {
			layout.WriteString(strings.Repeat("0", digits))
			rest = rest[digits:]
			continue
		}
		c, size := utf8.DecodeRuneInString(rest)
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' {
			return &Error{v.offset, fmt.Sprintf("a time has no part %q", rest), `the parts are YYYY MM MON DD hh mm ss .fff zzz, with other signs between them: as "YYYY-MM-DD hh:mm:ss.fff zzz"`}
		}
		layout.WriteRune(c)
		rest = rest[size:]
	}
	p.layout = layout.String()
	return nil
}

func (p *place) write(dst []byte, r *record.Record, plain func([]byte, *record.Record) []byte) []byte {
	start := len(dst)
	switch {
	case p.name == "time":
		dst = p.writeTime(dst, r.Time)
	case p.name == "received":
		dst = p.writeTime(dst, r.Received)
	case p.keyValue && r.HasFields():
		dst = appendKeyValue(dst, start, r.Fields().Root(), nil)
	default:
		dst = plain(dst, r)
		if len(dst) == start+1 && dst[start] == missing {
			dst = append(dst[:start], p.missing...)
		}
	}
	switch {
	case p.upper:
		dst = append(dst[:start], bytes.ToUpper(dst[start:])...)
	case p.lower:
		dst = append(dst[:start], bytes.ToLower(dst[start:])...)
	}
	for n := utf8.RuneCount(dst[start:]); n < p.width; n++ {
		dst = append(dst, ' ')
	}
	return dst
}

func (p *place) writeTime(dst []byte, s record.Stamp) []byte {
	if p.unix {
		return strconv.AppendInt(dst, s.Sec, 10)
	}
	t := time.Unix(s.Sec, int64(s.Nsec))
	switch {
	case p.zone != nil:
		t = t.In(p.zone)
	case s.Zone == 0:
		t = t.UTC()
	default:
		t = t.In(time.FixedZone("", int(s.Zone)*60))
	}
	if p.layout != "" {
		return t.AppendFormat(dst, p.layout)
	}
	return record.StampOf(t).Append(dst, 9)
}

// appendKeyValue writes fields behind start as name=value, those of objects with the names
// above them. Values of other than plain characters stand in quotes.
func appendKeyValue(dst []byte, start int, object record.Value, above []byte) []byte {
	for v := object.First(); v.More(); v = v.Next() {
		name := append(append([]byte(nil), above...), v.Key()...)
		if v.Kind() == record.Object && v.Len() > 0 {
			dst = appendKeyValue(dst, start, v, append(name, '.'))
			continue
		}
		if len(dst) > start {
			dst = append(dst, ' ')
		}
		dst = append(record.AppendVisible(dst, name), '=')
		if text := v.Text(); v.Kind() == record.String {
			if len(text) > 0 && !bytes.ContainsFunc(text, func(c rune) bool { return c <= ' ' || c >= 0x7f || c == '"' || c == '\\' || c == '=' }) {
				dst = append(dst, text...)
			} else {
				dst = record.AppendJSONString(dst, text)
			}
			continue
		}
		dst = v.AppendJSON(dst)
	}
	return dst
}

// lossy tells why what was written does not tell what was there, "" where it does.
func (p *place) lossy() string {
	switch isTime := p.name == "time" || p.name == "received"; {
	case isTime && p.layout != "" && !(strings.Contains(p.layout, "2006") && (strings.Contains(p.layout, "01") || strings.Contains(p.layout, "Jan")) && strings.Contains(p.layout, "02")):
		return fmt.Sprintf("{%s} without its date cannot be read back; write YYYY-MM-DD in it", p.name)
	case isTime && p.layout != "" && !(strings.Contains(p.layout, "15") && strings.Contains(p.layout, "04") && strings.Contains(p.layout, "05")):
		return fmt.Sprintf("{%s} without hh:mm:ss cannot be read back", p.name)
	case isTime && p.layout != "" && p.zone == nil && !strings.Contains(p.layout, "-07:00"):
		return fmt.Sprintf("{%s} without a zone cannot be read back, as senders have their own; write zzz in it, or in UTC before it", p.name)
	case p.keyValue: // and it may hold whatever stands behind it
		p.endless = true
		return "{fields as keyvalue} cannot be read back; {fields} can"
	case (p.upper || p.lower) && p.name != "severity" && p.name != "facility" && p.name != "host" && p.name != "agent":
		return fmt.Sprintf("{%s} in other letters than it came with cannot be read back", p.name)
	}
	return ""
}

// readBack reads what write has written.
func (p *place) readBack(r *record.Record, v []byte, plain func(*record.Record, []byte) bool) bool {
	if p.width > 0 {
		v = bytes.TrimRight(v, " ")
	}
	if p.name != "time" && p.name != "received" {
		if bytes.Equal(v, p.missing) {
			v = []byte{missing}
		}
		return plain(r, v)
	}
	stamp := &r.Time
	if p.name == "received" {
		stamp = &r.Received
	}
	switch {
	case p.unix:
		sec, err := strconv.ParseInt(string(v), 10, 64)
		*stamp = record.StampOf(time.Unix(sec, 0).UTC())
		return err == nil
	case p.layout == "":
		return plain(r, v)
	}
	zone := p.zone
	if zone == nil {
		zone = time.UTC
	}
	t, err := time.ParseInLocation(p.layout, string(v), zone)
	if err == nil && t.Year() > 0 {
		*stamp = record.StampOf(t)
	}
	return err == nil
}
