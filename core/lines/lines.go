// Package lines makes records of the lines that programs write. It joins the lines of
// one event, and has package decode take them apart, or find the severity and the time
// that a line names.
//
// A [Maker] is for the lines of one source, in their order, and for one goroutine. It
// may hold the beginning of an event until the lines that belong to it have come, or
// the wait for them is over. It does no input or output itself.
package lines

import (
	"bytes"
	"slices"
	"time"
	"unicode/utf8"

	"oakbarrel/core/decode"
	"oakbarrel/core/event"
	"oakbarrel/core/format"
	"oakbarrel/core/record"
)

// Settings says how lines become records.
type Settings struct {
	Join    Join
	Decode  []decode.Step  // that are tried in turn; without any a line is free text
	Reading decode.Reading // of times and severities
	Largest int            // bytes of a record's text; what is over is cut off; 0 for no bound
	Latin1  bool           // the lines are in ISO 8859-1, else in UTF-8

	// Default is the facility of all records, and the severity of those whose
	// line names none; where Streams is set, that is info on stdout and error on stderr.
	Default        record.Priority
	Streams        bool
	Stdout, Stderr record.Severity
	Host, App      []byte         // of records whose line names none
	Fields         Fields         // of each record
	Labelled       bool           // the last of Fields is the element of labels
	Values         []format.Named // of the host, the app and labels, from what the line says
}

// ForEvents has the lines of one event of Windows joined, unless the settings say otherwise, and
// leaves room for its XML.
func (s *Settings) ForEvents() {
	if s.Join.none() {
		s.Join = Join{Starts: event.Begins, Wait: time.Second}
	}
	s.Largest = max(s.Largest, event.Largest)
}

// Fields are fields that each record of a source gets, in both forms that a
// record may hold. The zero Fields is none.
type Fields struct {
	data   []byte // [id name="value"…]
	member []byte // "id":{"name":"value",…}
}

// NewFields makes one element of fields, such as {"file@32473": {"path": …}}.
func NewFields(element string, labels ...record.Label) Fields {
	if len(labels) == 0 {
		return Fields{}
	}
	object := record.AppendLabels(nil, []byte(`{}`), element, labels, false)
	return Fields{record.AppendLabels(nil, nil, element, labels, false), object[2 : len(object)-1]}
}

// And returns the fields of both.
func (f Fields) And(more Fields) Fields {
	if f.member != nil && more.member != nil {
		f.member = append(f.member[:len(f.member):len(f.member)], ',')
	}
	return Fields{append(f.data[:len(f.data):len(f.data)], more.data...), append(f.member[:len(f.member):len(f.member)], more.member...)}
}

// AddTo adds the fields to those of a record in out.
func (f Fields) AddTo(out *Out, r *record.Record) {
	if f.data == nil {
		return
	}
	if r.Data == nil {
		r.SetData(f.data)
		return
	}
	d := &out.decoder
	start := len(d.Memory)
	if r.Data[0] == '{' {
		d.Memory = append(append(append(d.Memory, r.Data[:len(r.Data)-1]...), ','), f.member...)
		d.Memory = append(d.Memory, '}')
	} else {
		d.Memory = append(append(d.Memory, r.Data...), f.data...)
	}
	r.SetData(d.Memory[start:len(d.Memory):len(d.Memory)])
}

// Out is where records go: a batch, and the memory of what had to be put
// together for it. It is for one goroutine at a time.
type Out struct {
	Batch   record.Batch
	Fell    Fell
	decoder decode.Decoder // and in its memory what was put together
}

// Fell counts the records that fell back to what holds where a line does not
// say: they had not the form that was set, named no time, or no severity.
type Fell struct {
	Form     int64 `json:"form"`
	Time     int64 `json:"time"`
	Severity int64 `json:"severity"`
}

// Reset empties the batch. What its records hold is gone.
func (o *Out) Reset() {
	o.Batch.Reset()
	o.decoder.Memory = o.decoder.Memory[:0]
}

// Keep copies b to where it stands until Reset.
func (o *Out) Keep(b []byte) []byte {
	return o.decoder.Keep(b)
}

// Line is a line of a source, without its end mark.
type Line struct {
	Text  []byte
	End   int64 // where it ends in the source, its end mark included; 0 outside of sources
	Start int64 // where it begins
	// In is the source in which it ends where that is not the one of the maker,
	// and Through the ends of those in which it began before.
	In       string
	Through  []record.Mark
	Received record.Stamp
	Time     record.Stamp // from what the line was wrapped in, else missing
	Stream   record.Stream
	Cut      bool // what was over is gone
}

// Maker makes the records of one stream of one source. It is for one goroutine.
type Maker struct {
	source   string
	settings *Settings

	// The lines of an event that may go on.
	joined  []byte
	first   Line // the event so far; its Text is not used
	waiting bool
	trace   trace
	left    []record.Mark // the ends of the sources that the event was inherited from and that had no line of it since
}

// NewMaker returns a maker of the records of a source, "" for none, with
// settings that it does not change.
func NewMaker(source string, s *Settings) *Maker {
	m := &Maker{source: source}
	m.Configure(s)
	return m
}

// Configure puts other settings in force for the lines that come.
func (m *Maker) Configure(s *Settings) { m.settings = s }

// Waiting tells where the event begins in the source whose lines may go on,
// and whether there is one.
func (m *Maker) Waiting() (start int64, waiting bool) { return m.first.Start, m.waiting }

// Add takes a line: it becomes a record at once, or once it is known that the
// event does not go on. An empty line is no record, but may stand in an event.
// The text of line must stand until out is reset; line itself is not kept.
func (m *Maker) Add(out *Out, line *Line) {
	if m.settings.Latin1 {
		line.Text = out.utf8(line.Text)
	}
	if m.settings.Join.none() {
		m.record(out, line, line.Text)
		return
	}
	if m.waiting && m.goesOn(line.Text) {
		m.join(line)
		return
	}
	m.Flush(out)
	m.waiting, m.first, m.joined, m.left = true, *line, append(m.joined[:0], line.Text...), nil
	m.trace.start(line.Text)
}

func (m *Maker) join(line *Line) {
	m.joined = append(append(m.joined, '\n'), line.Text...)
	m.first.In, m.first.End = line.In, line.End
	m.first.Through = appendNew(appendNew(m.first.Through, m.left), line.Through)
	m.left = nil
	m.first.Cut = m.first.Cut || line.Cut
	if most := m.settings.Largest; most > 0 && len(m.joined) > most {
		m.joined, m.first.Cut = m.joined[:most], true
	}
}

// appendNew appends the marks of sources that have none yet. It changes neither.
func appendNew(marks, more []record.Mark) []record.Mark {
	for _, m := range more {
		if !slices.ContainsFunc(marks, func(known record.Mark) bool { return known.Source == m.Source }) {
			marks = append(marks[:len(marks):len(marks)], m)
		}
	}
	return marks
}

// goesOn tells whether a line belongs to the event that waits.
func (m *Maker) goesOn(text []byte) bool {
	if m.settings.Join.Starts != nil {
		return !m.settings.Join.Starts.Match(text)
	}
	return m.trace.goesOn(text)
}

// Flush makes a record of the event that waits.
func (m *Maker) Flush(out *Out) {
	if !m.waiting {
		return
	}
	m.waiting = false
	m.record(out, &m.first, out.Keep(bytes.TrimRight(m.joined, "\n")))
	if cap(m.joined) > keptSize {
		m.joined = nil
	}
}

// keptSize is how much memory of an event is kept for the next, in bytes.
const keptSize = 16 << 10

// Held returns how many bytes of memory the event takes that waits.
func (m *Maker) Held() int { return cap(m.joined) }

// Inherit takes over the event that waits in another maker, whose source ends
// at end and goes on in that of m from start on. The event ends where its last
// line does: in its old source, unless lines of m join it.
func (m *Maker) Inherit(from *Maker, end, start int64) {
	m.waiting, m.first, m.joined, m.trace = true, from.first, append(m.joined[:0], from.joined...), from.trace
	if m.first.In == "" {
		m.first.In = from.source
	}
	m.first.Start = start
	m.left = appendNew(from.left, []record.Mark{{Source: from.source, Offset: end}})
	from.waiting = false
}

// Inherited tells whether the event that waits is one that was inherited.
func (m *Maker) Inherited() bool { return m.waiting && m.left != nil }

// wholeCharacters returns where to cut text that is longer than most bytes, so that no character
// of UTF-8 is cut in two.
func wholeCharacters(text []byte, most int) int {
	for n := most; n > max(0, most-utf8.UTFMax); n-- {
		if utf8.RuneStart(text[n]) {
			return n
		}
	}
	return most
}

// record adds a record to the batch.
func (m *Maker) record(out *Out, line *Line, text []byte) {
	if most := m.settings.Largest; most > 0 && len(text) > most {
		text, line.Cut = text[:wholeCharacters(text, most)], true
	}
	source := m.source
	if line.In != "" {
		source = line.In
	}
	if len(text) == 0 {
		if line.End > 0 {
			out.Batch.TakeAll(source, line.End, line.Through)
		}
		return
	}
	s := m.settings
	r := out.Batch.Next()
	if line.End > 0 {
		out.Batch.End(r, source, line.End, line.Through)
	}
	r.Received, r.Time, r.Stream, r.Cut = line.Received, line.Time, line.Stream, line.Cut
	r.Raw, r.Text = text, text
	r.Priority = s.Default
	if s.Streams {
		r.Priority = record.MakePriority(s.Default.Facility(), s.severityOf(line.Stream))
	}
	d := &out.decoder
	d.Reading = &s.Reading
	r.Unparsed = len(s.Decode) > 0 && !d.Decode(r, s.Decode)
	if len(s.Decode) == 0 || r.Unparsed {
		d.Find(r, !s.Join.none())
	}
	if s.Join.Indented && !s.Streams && !d.Named && m.trace.isCrash(text) { // streams have severities of their own
		r.Priority = record.MakePriority(r.Facility(), min(r.Severity(), record.Error))
		d.Named = true
	}
	s.Fields.AddTo(out, r)
	if len(s.Values) > 0 {
		m.setValues(out, r)
	}
	out.Fell.count(r, d.Named)
	if r.Time.IsZero() {
		r.Time = r.Received
	}
	if r.Host == nil {
		r.Host = s.Host
	}
	if r.App == nil {
		r.App = s.App
	}
}

// setValues sets what depends on the record: the host and the app where the line names
// none, and labels.
func (m *Maker) setValues(out *Out, r *record.Record) {
	labelled := m.settings.Labelled
	for _, v := range m.settings.Values {
		d := &out.decoder
		start, ok := len(d.Memory), false
		if d.Memory, ok = v.Value.Append(d.Memory, r); !ok {
			continue
		}
		value := d.Memory[start:len(d.Memory):len(d.Memory)]
		switch {
		case v.Name == "host" && r.Host == nil:
			r.Host = value
		case v.Name == "app" && r.App == nil:
			r.App = value
		case v.Name != "host" && v.Name != "app":
			start = len(d.Memory)
			d.Memory = record.AppendLabels(d.Memory, r.Data, "label@32473", []record.Label{{Name: v.Name, Value: string(value)}}, labelled)
			r.SetData(d.Memory[start:len(d.Memory):len(d.Memory)])
			labelled = true
		}
	}
}

func (f *Fell) count(r *record.Record, severity bool) {
	if r.Unparsed {
		f.Form++
	}
	if r.Time.IsZero() {
		f.Time++
	}
	if !severity {
		f.Severity++
	}
}

func (s *Settings) severityOf(stream record.Stream) record.Severity {
	if stream == record.Stderr {
		return s.Stderr
	}
	return s.Stdout
}

// utf8 turns ISO 8859-1 into UTF-8: each of its characters is the one with that number.
func (o *Out) utf8(latin1 []byte) []byte {
	d := &o.decoder
	start := len(d.Memory)
	for _, c := range latin1 {
		d.Memory = appendRune(d.Memory, c)
	}
	return d.Memory[start:len(d.Memory):len(d.Memory)]
}

func appendRune(dst []byte, c byte) []byte {
	if c < 0x80 {
		return append(dst, c)
	}
	return append(dst, 0xc0|c>>6, 0x80|c&0x3f)
}
