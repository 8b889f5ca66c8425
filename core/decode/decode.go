// Package decode takes apart what a text holds: JSON, key=value, access lines of the web,
// columns, syslog, or what a pattern says; and finds the time and the severity that a line
// names, in the forms that programs write.
//
// A [Decoder] is for one goroutine. It changes a record in place; what it puts together
// stands in its Memory, as long as the caller keeps that. The package does no input or
// output, and depends on records, their fields, the syslog forms and those of events alone.
package decode

import (
	"bytes"
	"regexp"
	"slices"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/event"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// Form is the form of a text.
type Form string

// The forms.
const (
	JSON     Form = "json"     // one object, also behind a prefix
	KeyValue Form = "keyvalue" // level=warn msg="two words"
	Access   Form = "access"   // the access line of a web server or a load balancer
	Pattern  Form = "pattern"  // as a regular expression tells
	Syslog   Form = "syslog"   // a syslog message, also without its priority
	CSV      Form = "csv"      // values in columns
	Events   Form = "events"   // an event of Windows, as XML
)

// Step is a try to read a text, or a field, as one form.
type Step struct {
	Form    Form
	From    condition.Path // the field that is read, nil for the text
	Pattern *regexp.Regexp // with named groups
	// The names under which time, severity and text are looked for, nil for the usual ones.
	Time, Severity, Text []string
	Columns              []string // of csv: properties and fields, "" for one that is left out
	Separator            byte     // of csv
}

// Reading says how times and severities are read. The zero Reading knows the usual ones.
type Reading struct {
	Zone   *time.Location             // of times that name none, nil for the machine's
	Levels map[string]record.Severity // by the word in lower case, beside the usual ones
	Times  []Layout                   // before the usual ones
}

// OfEvents tells whether texts are tried as events of Windows.
func OfEvents(steps []Step) bool {
	return slices.ContainsFunc(steps, func(s Step) bool { return s.Form == Events && s.From == nil })
}

// Decoder decodes records, one after the other. The zero Decoder knows the usual times
// and severities.
type Decoder struct {
	Reading *Reading
	Memory  []byte // what was put together for records; it may be emptied when they are done with
	Named   bool   // the last record named its severity

	tree    record.Tree
	members []record.Member
	parser  wire.Parser
	stamps  record.StampReader
	parsed  record.Record // of the syslog form
	events  event.Reader
}

// Decode reads a record by the first step that fits, and tells whether one does. Where
// none does the record stays as it is.
func (d *Decoder) Decode(r *record.Record, steps []Step) (fits bool) {
	d.Named = false
	if d.Reading == nil {
		d.Reading = &usualReading
	}
	for i := range steps {
		s := &steps[i]
		text := r.Text
		if s.From != nil {
			text = s.From.Find(r).Text()
		}
		if len(text) > 0 && d.try(r, s, text) {
			return true
		}
	}
	return false
}

func (d *Decoder) try(r *record.Record, s *Step, text []byte) bool {
	switch s.Form {
	case JSON:
		return d.json(r, s, text)
	case KeyValue:
		return d.keyValue(r, s, text)
	case Access:
		return d.access(r, text)
	case Pattern:
		return d.pattern(r, s, text)
	case Syslog:
		return d.syslog(r, text)
	case CSV:
		return d.csv(r, s, text)
	case Events:
		return d.event(r, text)
	}
	return false
}

// event reads an event of Windows, that stands in its own line, or in some of them.
func (d *Decoder) event(r *record.Record, text []byte) bool {
	e, memory, err := d.events.Read(text, d.Memory)
	if d.Memory = memory; err != nil {
		return false
	}
	had := r.Data
	r.Data = nil
	d.Memory = e.Fill(r, d.Memory)
	object := r.Data
	r.SetData(had)
	d.setFields(r, object)
	d.Named = true
	return true
}

// Keep copies b into the memory.
func (d *Decoder) Keep(b []byte) []byte {
	start := len(d.Memory)
	d.Memory = append(d.Memory, b...)
	return d.Memory[start:len(d.Memory):len(d.Memory)]
}

// Find looks for the time, where it is not known, and the severity in the free text of a
// record; where it may have several lines in the first, and in the second where a logger
// writes its head in two.
func (d *Decoder) Find(r *record.Record, several bool) {
	d.Named = false
	if d.Reading == nil {
		d.Reading = &usualReading
	}
	text, rest := r.Text, []byte(nil)
	if several {
		text, rest, several = bytes.Cut(text, newline)
	}
	if d.find(r, text); !d.Named && several && HeadOfTwo(text) {
		d.find(r, rest)
	}
}

// find looks for time and severity in a line.
func (d *Decoder) find(r *record.Record, text []byte) {
	behind := 0
	if r.Time.IsZero() {
		if s, end, ok := d.findStamp(text, r.Received); ok {
			r.Time = s
			if end < len(text) && text[end] == ' ' {
				behind = end
			}
		}
	}
	if s, ok := d.Reading.findSeverity(text, behind); ok {
		d.setSeverity(r, s)
	}
}

var newline = []byte{'\n'}

// HeadOfTwo tells whether a line is the first of the two that Java's own logger begins a
// record with: "Nov 25, 2026 10:15:00 AM lantern.bay.Pump start".
func HeadOfTwo(line []byte) bool {
	_, n, ok := letterLayouts[0].read(line, record.Stamp{}, time.UTC)
	if !ok || n >= len(line) || line[n] != ' ' {
		return false
	}
	class, method, _ := bytes.Cut(line[n+1:], []byte{' '})
	return len(class) > 0 && bytes.IndexByte(method, ' ') < 0
}

// SecondOfTwo tells whether a line is the second of the two: "SEVERE: the pump is dry".
func SecondOfTwo(line []byte) bool {
	end := bytes.IndexByte(line, ':')
	if end < 0 || end > longestWord {
		return false
	}
	_, ok := usualReading.parseWord(line[:end])
	return ok && bytes.Equal(line[:end], bytes.ToUpper(line[:end]))
}

func (d *Decoder) setSeverity(r *record.Record, s record.Severity) {
	r.Priority = record.MakePriority(r.Facility(), s)
	d.Named = true
}

// setFields gives the record the fields of an object in memory, before those that it has:
// what a rule has labelled stays the last. Of one name the new one counts, but for the
// elements that are ours, which no sender may replace.
func (d *Decoder) setFields(r *record.Record, object []byte) {
	if len(object) <= 2 { // {}
		return
	}
	if !r.HasFields() || d.tree.ParseJSON(object) != nil {
		r.SetData(object)
		return
	}
	start, added, had := d.begin(), d.tree.Root(), r.Fields().Root()
	for v := added.First(); v.More(); v = v.Next() {
		if !isOurs(v.Key()) || !hasKey(had, v.Key()) {
			d.name(v.Key())
			d.Memory = v.AppendJSON(d.Memory)
		}
	}
	for v := had.First(); v.More(); v = v.Next() {
		if isOurs(v.Key()) || !hasKey(added, v.Key()) {
			d.name(v.Key())
			d.Memory = v.AppendJSON(d.Memory)
		}
	}
	r.SetData(d.end(start))
}

// isOurs tells whether a field is one that agents add.
func isOurs(key []byte) bool { return bytes.HasSuffix(key, []byte("@32473")) }

func hasKey(object record.Value, key []byte) bool {
	for v := object.First(); v.More(); v = v.Next() {
		if bytes.Equal(v.Key(), key) {
			return true
		}
	}
	return false
}

// begin begins an object in memory, whose members follow one after the other.
func (d *Decoder) begin() (start int) {
	start = len(d.Memory)
	d.Memory = append(d.Memory, '{')
	return start
}

func (d *Decoder) name(name []byte) {
	if d.Memory[len(d.Memory)-1] != '{' {
		d.Memory = append(d.Memory, ',')
	}
	d.Memory = append(record.AppendJSONString(d.Memory, name), ':')
}

func (d *Decoder) text(name string, value []byte) {
	d.name([]byte(name))
	d.Memory = record.AppendJSONString(d.Memory, value)
}

// number adds a number that is one in JSON.
func (d *Decoder) number(name string, value []byte) {
	d.name([]byte(name))
	d.Memory = append(d.Memory, value...)
}

// end ends the object that begins at start, and returns it.
func (d *Decoder) end(start int) []byte {
	d.Memory = append(d.Memory, '}')
	return d.Memory[start:len(d.Memory):len(d.Memory)]
}
