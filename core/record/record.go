// Package record holds the log record, the unit of everything, and its forms that are
// ours: JSON and the tree of its fields.
//
// The properties of a [Record] are slices of the buffer that it was read into, so that
// nothing is copied on the way; whoever wants to keep one copies it. A [Batch] is a run
// of records with how far their sources are taken. Neither is for several goroutines
// at a time. The package depends on nothing else of the project.
package record

import (
	"net/netip"
)

// Record is one log message with its properties.
//
// The byte slices point into the buffer that the record was read from and are
// valid as long as that is: until the batch of the record is used again. A nil
// slice is a missing property, an empty one a property that is present and
// empty. A Record may be read by one goroutine at a time only, because fields
// are parsed when they are first asked for.
type Record struct {
	Time     Stamp // from the sender, else the time received
	Received Stamp // when the agent took it in
	Priority Priority
	Stream   Stream
	Unparsed bool // its header could not be read: Text holds what was not understood
	Cut      bool // it was longer than allowed, and what was over is gone

	Host, App, ProcID, MsgID, Text []byte
	Agent                          []byte // the name of the host whose agent took it in, nil where that is not known

	// Data holds the fields: structured data as it stands in RFC 5424, "[id name="value"]…",
	// or one JSON object that is not empty; well formed, see ValidData. It is nil for none.
	Data []byte
	// Raw is the message as it came, where the intake keeps it.
	Raw []byte

	Intake string
	Peer   *Peer

	// End is where the record ends in a followed source, in bytes, 0 for a record
	// of no source; Source is the place of the source among the marks of the
	// batch. Through has the ends of the sources in which it began before that:
	// they are taken with it. See [Batch.End].
	End     int64
	Source  uint16
	Through []Mark

	judged map[any]bool // what Judge noted
	fields *Tree        // kept when the record is used again
	parsed bool         // fields are those of this record
}

// Peer is who sent a record as far as the kernel tells: an address, or the
// process at the other end of a unix socket.
type Peer struct {
	Addr     netip.AddrPort // invalid for a unix socket
	PID      int32          // 0 where it is not known
	UID, GID uint32
}

// Stream is the stream of a program that a record was written to.
type Stream uint8

// The streams.
const (
	NoStream Stream = iota
	Stdout
	Stderr
)

// String returns "stdout", "stderr" or "".
func (s Stream) String() string { return [...]string{"", "stdout", "stderr"}[s] }

// Facility returns the facility of the record.
func (r *Record) Facility() Facility { return r.Priority.Facility() }

// Severity returns the severity of the record.
func (r *Record) Severity() Severity { return r.Priority.Severity() }

// Fields returns the fields of the record as a tree whose root is an object.
// The tree belongs to the record and is valid as long as it.
func (r *Record) Fields() *Tree {
	if r.parsed {
		return r.fields
	}
	if r.fields == nil {
		r.fields = new(Tree)
	}
	r.fields.Reset()
	if isObject(r.Data) {
		r.fields.ParseJSON(r.Data) // it is well formed
	} else {
		r.fields.addData(r.Data)
	}
	if r.Cut {
		r.fields.object(0, cutKey)
	}
	r.parsed = true
	return r.fields
}

// HasFields tells whether there is any field, without parsing them.
func (r *Record) HasFields() bool {
	if r.parsed {
		return r.fields.Root().Len() > 0
	}
	return len(r.Data) > 0 || r.Cut
}

// cutKey names the field that marks a record which was longer than allowed.
var cutKey = []byte("cut@32473")

// Judge notes the answer to a question about the record, which Judged returns
// until the record is changed by [Record.Unjudge] or used again.
func (r *Record) Judge(question any, answer bool) {
	if r.judged == nil {
		r.judged = map[any]bool{}
	}
	r.judged[question] = answer
}

// Judged returns the answer to a question, and whether it is known.
func (r *Record) Judged(question any) (answer, known bool) {
	answer, known = r.judged[question]
	return answer, known
}

// Unjudge forgets all answers: the record has changed.
func (r *Record) Unjudge() { r.judged = nil }

// Reset empties the record for another use.
func (r *Record) Reset() { *r = Record{fields: r.fields} }

// Batch is a run of records that are read, judged and written together. An
// intake owns its batch and uses it again; nobody keeps what a batch holds.
type Batch struct {
	Records []Record
	// Marks says how far followed sources are taken once the batch is, also where
	// it has no record of them.
	Marks []Mark
}

// Next adds an empty record to the batch and returns it. Pointers that it
// returned before may no longer point into the batch.
func (b *Batch) Next() *Record {
	if n := len(b.Records); n < cap(b.Records) {
		b.Records = b.Records[:n+1]
	} else {
		b.Records = append(b.Records, Record{})
	}
	r := &b.Records[len(b.Records)-1]
	r.Reset()
	return r
}

// TakeTo notes that a source is taken to an offset, or further, once the batch
// is. It returns the place of the source among the marks.
func (b *Batch) TakeTo(source string, offset int64) uint16 {
	for i := range b.Marks {
		if m := &b.Marks[i]; m.Source == source {
			m.Offset = max(m.Offset, offset)
			return uint16(i)
		}
	}
	b.Marks = append(b.Marks, Mark{source, offset})
	return uint16(len(b.Marks) - 1)
}

// End says that a record of the batch ends in a source at an offset, and is the
// end of those in which it began before. The batch gets all their marks, so
// that no record of a source stands in it without.
func (b *Batch) End(r *Record, source string, offset int64, through []Mark) {
	r.Source, r.End, r.Through = b.TakeAll(source, offset, through), offset, through
}

// TakeAll is TakeTo, also for the sources that lead there.
func (b *Batch) TakeAll(source string, offset int64, through []Mark) uint16 {
	for _, m := range through {
		b.TakeTo(m.Source, m.Offset)
	}
	return b.TakeTo(source, offset)
}

// Whole tells whether each record of a source has its mark in the batch.
func (b *Batch) Whole() bool {
	for i := range b.Records {
		if r := &b.Records[i]; r.End > 0 && (int(r.Source) >= len(b.Marks) || b.Marks[r.Source].Offset < r.End) {
			return false
		}
	}
	return true
}

// Reset empties the batch and keeps its memory.
func (b *Batch) Reset() { b.Records, b.Marks = b.Records[:0], b.Marks[:0] }
