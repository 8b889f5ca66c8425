// Package event reads the events of Windows: as XML, which the system renders them as, and from
// event files (.evtx), whose binary form it turns into the same XML.
//
// It makes records of them: the level is the severity, the source the app, the computer the
// host, the rendered message the text; all else stands in fields under event@32473. The package
// does no input or output itself, and depends on records alone.
package event

import (
	"bytes"
	"errors"
	"regexp"
	"slices"
	"strconv"

	"oakbarrel/core/record"
)

// Event is one event. Its slices point into the XML that it was read from, or into the memory that
// was given for it.
type Event struct {
	Source, GUID, Channel, Computer, User []byte
	ID, Qualifiers, Version, Level        []byte // numbers, as they are written
	Task, Opcode, Keywords                []byte
	Time, Record, Process, Thread         []byte
	Activity, Related                     []byte
	Message, LevelName, TaskName          []byte // as the system renders them, nil where it did not
	OpcodeName                            []byte
	Data                                  []Datum // of the event and its user data
	Cut                                   bool    // there were more of them
}

// Datum is one value of an event.
type Datum struct {
	Name  []byte // empty where the event has none for it
	Value []byte
}

// ErrXML says that a text is no event.
var ErrXML = errors.New("this is no event in XML")

// Largest is how many bytes of XML an event may have; the system writes up to 64 KiB of what it
// is made of.
const Largest = 1 << 18

const (
	deepest  = 32  // elements in one another
	mostData = 256 // values of an event; the system's own have a few dozen
)

// Reader reads events of XML, one after the other. The zero Reader is ready. It is for one goroutine.
type Reader struct {
	event   Event
	scanner scanner
	path    [][]byte // of the elements that are open
	leaf    Datum    // the element that was opened last
	isLeaf  bool
}

// Read reads the event of a text, which may have the declaration of a document before it, or the
// list that it is of around it. What had to be put together is added to memory, which is
// returned. The event is valid until the next call. The error is [ErrXML].
func (p *Reader) Read(text, memory []byte) (*Event, []byte, error) {
	p.event = Event{Data: p.event.Data[:0]}
	p.scanner = scanner{b: alone(text), memory: memory}
	p.path, p.isLeaf = p.path[:0], false
	for kind := p.scanner.next(); kind != over; kind = p.scanner.next() {
		switch {
		case kind == open && len(p.path) < deepest:
			p.open()
		case kind == words:
			p.words()
		case kind == closed && len(p.path) > 0:
			p.close()
		default:
			return nil, p.scanner.memory, ErrXML
		}
	}
	if len(p.path) > 0 || p.event.Source == nil && p.event.ID == nil {
		return nil, p.scanner.memory, ErrXML
	}
	return &p.event, p.scanner.memory, nil
}

// Begins finds the beginning of an event in a line.
var Begins = regexp.MustCompile(`<Event[\s>]`)

var begins, ends = []byte("<Event"), []byte("</Event>")

// find returns where an event begins, -1 for nowhere, as Begins does.
func find(text []byte) int {
	for from := 0; ; {
		n := bytes.Index(text[from:], begins)
		if n < 0 {
			return -1
		}
		from += n + len(begins)
		if from < len(text) && bytes.IndexByte([]byte("> \t\r\n\f"), text[from]) >= 0 {
			return from - len(begins)
		}
	}
}

// alone returns the event of a text, from its beginning to its end.
func alone(text []byte) []byte {
	if at := find(text); at > 0 {
		text = text[at:]
	}
	if end := bytes.LastIndex(text, ends); end >= 0 {
		text = text[:end+len(ends)]
	}
	return text
}

func (p *Reader) open() {
	p.path = append(p.path, p.scanner.name)
	p.leaf, p.isLeaf = Datum{Name: p.scanner.name}, true
	switch {
	case p.within("System"):
		p.scanner.eachAttribute(p.systemAttribute)
	case p.within("EventData"), p.within("UserData"):
		named := string(p.scanner.name) == "Data" || string(p.scanner.name) == "ComplexData"
		if named {
			p.leaf.Name = nil
		}
		p.scanner.eachAttribute(func(name, value []byte) {
			if named && string(name) == "Name" {
				p.leaf.Name = value
			} else {
				p.add(Datum{name, value})
			}
		})
	}
}

// within tells whether an element is open in a part of the event.
func (p *Reader) within(part string) bool { return len(p.path) > 2 && string(p.path[1]) == part }

func (p *Reader) words() {
	if p.isLeaf && len(p.leaf.Value) > 0 { // a reference, CDATA, or a comment stood in between
		start := len(p.scanner.memory)
		p.scanner.memory = append(append(p.scanner.memory, p.leaf.Value...), p.scanner.text...)
		p.leaf.Value = p.scanner.memory[start:len(p.scanner.memory):len(p.scanner.memory)]
		return
	}
	if p.isLeaf {
		p.leaf.Value = p.scanner.text
		return
	}
	if text := bytes.TrimSpace(p.scanner.text); len(text) > 0 && (p.within("EventData") || p.within("UserData")) {
		p.add(Datum{p.path[len(p.path)-1], text})
	}
}

func (p *Reader) close() {
	if p.isLeaf && len(p.path) > 2 {
		switch string(p.path[1]) {
		case "System":
			p.system(p.leaf)
		case "RenderingInfo":
			p.rendered(p.leaf)
		case "EventData", "UserData":
			p.add(p.leaf)
		}
	}
	p.path, p.isLeaf = p.path[:len(p.path)-1], false
}

func (p *Reader) add(d Datum) {
	if len(p.event.Data) == mostData {
		p.event.Cut = true
		return
	}
	p.event.Data = append(p.event.Data, d)
}

// systemAttribute takes an attribute of an element of the system's part.
func (p *Reader) systemAttribute(name, value []byte) {
	e := &p.event
	switch string(p.scanner.name) + "/" + string(name) {
	case "Provider/Name":
		e.Source = value
	case "Provider/EventSourceName":
		if e.Source == nil {
			e.Source = value
		}
	case "Provider/Guid":
		e.GUID = value
	case "EventID/Qualifiers":
		e.Qualifiers = value
	case "TimeCreated/SystemTime":
		e.Time = value
	case "Correlation/ActivityID":
		e.Activity = value
	case "Correlation/RelatedActivityID":
		e.Related = value
	case "Execution/ProcessID":
		e.Process = value
	case "Execution/ThreadID":
		e.Thread = value
	case "Security/UserID":
		e.User = value
	}
}

// system takes an element of the system's part.
func (p *Reader) system(d Datum) {
	e, value := &p.event, bytes.TrimSpace(d.Value)
	switch string(d.Name) {
	case "EventID":
		e.ID = value
	case "Version":
		e.Version = value
	case "Level":
		e.Level = value
	case "Task":
		e.Task = value
	case "Opcode":
		e.Opcode = value
	case "Keywords":
		e.Keywords = value
	case "EventRecordID":
		e.Record = value
	case "Channel":
		e.Channel = value
	case "Computer":
		e.Computer = value
	}
}

// rendered takes what the system rendered in its own language.
func (p *Reader) rendered(d Datum) {
	switch e := &p.event; string(d.Name) {
	case "Message":
		e.Message = bytes.TrimSpace(d.Value)
	case "Level":
		e.LevelName = d.Value
	case "Task":
		e.TaskName = d.Value
	case "Opcode":
		e.OpcodeName = d.Value
	}
}

// Keywords that say how an audit went.
const (
	auditFailure = 1 << 52
	auditSuccess = 1 << 53
)

// Severity returns that of a level: critical 1, error 2, warning 3, information 4, verbose 5 and
// above; an audit that failed is a warning, and one that did not a notice.
func (e *Event) Severity() record.Severity {
	switch keywords, _ := strconv.ParseUint(string(e.Keywords), 0, 64); {
	case keywords&auditFailure != 0:
		return record.Warning
	case keywords&auditSuccess != 0:
		return record.Notice
	}
	switch string(e.Level) {
	case "1":
		return record.Critical
	case "2":
		return record.Error
	case "3":
		return record.Warning
	case "", "0", "4":
		return record.Info
	}
	return record.Debug
}

// Number returns the number of the event in its channel, 0 where it has none.
func (e *Event) Number() int64 {
	n, _ := strconv.ParseInt(string(e.Record), 10, 64)
	return max(0, n)
}

// Facilities of what events tell: of who may do what, and of all else.
const (
	daemon        = record.Facility(3)
	authorization = record.Facility(10)
)

// Fill makes a record of the event. Memory is added to, and returned; the slices of the record
// point into it, and into the event.
func (e *Event) Fill(r *record.Record, memory []byte) []byte {
	facility := daemon
	if string(e.Channel) == "Security" {
		facility = authorization
	}
	r.Priority = record.MakePriority(facility, e.Severity())
	if len(e.Source) > 0 {
		r.App = e.Source
	}
	if len(e.Computer) > 0 {
		r.Host = e.Computer
	}
	if stamp, n, ok := record.ParseStamp(e.Time); ok && n == len(e.Time) {
		r.Time = stamp
	}
	r.ProcID, r.MsgID, r.Cut = e.Process, e.ID, r.Cut || e.Cut
	start := len(memory)
	memory = e.appendFields(memory)
	r.SetData(memory[start:len(memory):len(memory)])
	if r.Text = e.Message; len(r.Text) == 0 {
		start = len(memory)
		memory = e.appendValues(memory)
		r.Text = memory[start:len(memory):len(memory)]
	}
	return memory
}

// element holds what is no property of the record.
const element = `{"event@32473":{`

func (e *Event) appendFields(dst []byte) []byte {
	dst = append(dst, element...)
	for _, f := range []struct {
		name  string
		value []byte
	}{
		{"channel", e.Channel}, {"id", e.ID}, {"level", e.Level}, {"record", e.Record}, {"task", e.Task}, {"opcode", e.Opcode}, {"keywords", e.Keywords},
		{"version", e.Version}, {"qualifiers", e.Qualifiers}, {"guid", e.GUID}, {"thread", e.Thread}, {"user", e.User}, {"activity", e.Activity}, {"related", e.Related},
		{"level_name", e.LevelName}, {"task_name", e.TaskName}, {"opcode_name", e.OpcodeName}, {"message", e.Message},
	} {
		if len(f.value) > 0 {
			dst = appendMember(dst, f.name, f.value)
		}
	}
	if len(e.Data) > 0 {
		dst = e.appendData(append(begin(dst), `"data":{`...))
		dst = append(dst, '}')
	}
	return append(dst, '}', '}')
}

// appendData writes the values of the event. One without a name has its number, and a name that
// is there already gets one.
func (e *Event) appendData(dst []byte) []byte {
	var own [32]byte
	for i, d := range e.Data {
		dst = append(record.AppendJSONString(begin(dst), e.nameOf(i, own[:0])), ':')
		dst = record.AppendJSONString(dst, d.Value)
	}
	return dst
}

// nameOf returns the name of a value, made in memory where it has none of its own.
func (e *Event) nameOf(i int, memory []byte) []byte {
	name := e.Data[i].Name
	had := slices.ContainsFunc(e.Data[:i], func(d Datum) bool { return len(name) > 0 && bytes.Equal(d.Name, name) })
	switch {
	case len(name) == 0:
		return strconv.AppendInt(memory, int64(i+1), 10)
	case had:
		return strconv.AppendInt(append(append(memory, name...), '_'), int64(i+1), 10)
	}
	return name
}

// appendValues writes what an event says whose message the system could not render.
func (e *Event) appendValues(dst []byte) []byte {
	if len(e.Data) == 0 {
		return append(append(append(append(dst, "event "...), e.ID...), " of "...), e.Source...)
	}
	var own [32]byte
	for i, d := range e.Data {
		if i > 0 {
			dst = append(dst, ' ')
		}
		dst = append(append(dst, e.nameOf(i, own[:0])...), '=')
		if value := bytes.TrimSpace(d.Value); len(value) == 0 || bytes.ContainsAny(value, " \t\n\"=") {
			dst = record.AppendJSONString(dst, value)
		} else {
			dst = append(dst, value...)
		}
	}
	return dst
}

// begin begins a member of an object.
func begin(dst []byte) []byte {
	if dst[len(dst)-1] != '{' {
		dst = append(dst, ',')
	}
	return dst
}

// appendMember writes a member of an object: a number as one.
func appendMember(dst []byte, name string, value []byte) []byte {
	dst = append(append(append(begin(dst), '"'), name...), '"', ':')
	if isNumber(value) {
		return append(dst, value...)
	}
	return record.AppendJSONString(dst, value)
}

func isNumber(b []byte) bool {
	const most = 18
	for _, c := range b {
		if c < '0' || c > '9' {
			return false
		}
	}
	return len(b) <= most && (b[0] != '0' || len(b) == 1)
}
