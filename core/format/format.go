// Package format makes a line of a record, as the plan's key format says, and
// reads such lines again.
//
// It knows records, their wire forms and the paths of fields, and nothing else
// of the project. Its central type is [Format].
package format

import (
	"fmt"
	"strings"
	"time"

	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// Format is the shape of a line. It may be used by several goroutines at a time.
type Format struct {
	text   string
	append func(dst []byte, r *record.Record) []byte // without the newline
	read   func(r *record.Record, line []byte) error
	held   []string // what a line gives back, nil for all
	faults []string // why places of a template do not give back what stands in them
}

// Error says where in a format something is wrong, and how to mend it.
type Error struct {
	Offset     int // bytes from the start of the format
	What, Mend string
}

func (e *Error) Error() string { return e.What + "; " + e.Mend }

// Default is the format of a file whose plan names none.
const Default = "json"

var named = map[string]Format{
	"json": {
		append: func(dst []byte, r *record.Record) []byte { return r.AppendJSON(dst) },
		read:   func(r *record.Record, line []byte) error { return r.ParseJSON(line) },
	},
	"rfc5424": {append: wire.AppendRFC5424Line, read: readSyslog, held: heldByRFC5424},
	"rfc3164": {append: wire.AppendRFC3164Line, read: readSyslog, held: heldByRFC3164},
}

// What lines of an unknown format are taken for, beside plainText.
var (
	guessedJSON   = Format{text: "json", read: named["json"].read}
	guessedSyslog = Format{text: "syslog", read: readSyslog, held: heldByRFC5424}
)

// Parse reads json, rfc5424, rfc3164, in any letter case, or a template such as
// "{time} {host} {text}". The error, if any, is an *[Error].
func Parse(s string) (*Format, error) {
	if f, ok := named[strings.ToLower(s)]; ok {
		f.text = strings.ToLower(s)
		return &f, nil
	}
	if !strings.Contains(s, "{") {
		mend := "write json, rfc5424, rfc3164, or a template such as '{time} {host} {app}: {text}'"
		if word, ok := nearest.Word(s, []string{"json", "rfc5424", "rfc3164"}); ok {
			mend = fmt.Sprintf("did you mean %s?", word)
		}
		return nil, &Error{0, fmt.Sprintf("there is no format %q", s), mend}
	}
	t, err := parseTemplate(s)
	if err != nil {
		return nil, err
	}
	f := &Format{text: s, append: t.append, read: t.read, held: []string{}}
	f.held, f.faults = t.held()
	return f, nil
}

// String returns the format as the plan has it.
func (f *Format) String() string { return f.text }

// AppendLine writes r as one line, with its newline. It allocates nothing where
// dst has room, except for records of several lines as RFC 5424.
func (f *Format) AppendLine(dst []byte, r *record.Record) []byte {
	return append(f.append(dst, r), '\n')
}

// Read fills r from a line of this format, without its newline. What the
// format does not hold stays missing. The slices of r point into line.
func (f *Format) Read(r *record.Record, line []byte) error {
	r.Reset()
	return f.read(r, line)
}

// Time returns the time of the record in a line of this format, without its newline.
func (f *Format) Time(line []byte) (time.Time, bool) {
	var r record.Record
	if f.Read(&r, line) != nil || r.Time.IsZero() {
		return time.Time{}, false
	}
	return time.Unix(r.Time.Sec, int64(r.Time.Nsec)).In(time.FixedZone("", int(r.Time.Zone)*60)), true
}

// Guess fills r from a line of an unknown format: a record as JSON, a syslog
// message, or else a text. It returns what the line was taken for.
func Guess(r *record.Record, line []byte) *Format {
	r.Reset()
	if len(line) > 0 && line[0] == '{' && r.ParseJSON(line) == nil {
		return &guessedJSON
	}
	r.Reset()
	readSyslog(r, line)
	if len(line) > 0 && line[0] == '<' && !r.Unparsed {
		return &guessedSyslog
	}
	return plainText
}

// Faults tells, for people, why places of the format do not give back what stands in them.
func (f *Format) Faults() []string { return f.faults }

func readSyslog(r *record.Record, line []byte) error {
	parser := wire.Parser{Default: record.DefaultPriority}
	parser.Parse(r, line)
	return nil
}
