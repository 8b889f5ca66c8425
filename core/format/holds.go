package format

import (
	"bytes"
	"slices"
	"strings"

	"oakbarrel/core/record"
)

// What the forms of lines hold of a record, beside json, which holds all.
var (
	heldByRFC5424 = []string{"time", "facility", "severity", "host", "app", "procid", "msgid", "text", "fields"}
	heldByRFC3164 = []string{"time", "facility", "severity", "host", "app", "procid", "text"}
)

// plainText is the form of lines that have none: each is a text.
var plainText = &Format{text: "plain text", held: []string{"text"}}

// Holds tells whether the lines of the format give a property back: one by its name, all
// "fields", or one as "field PATH".
func (f *Format) Holds(property string) bool {
	if f.held == nil || slices.Contains(f.held, property) {
		return true
	}
	return strings.HasPrefix(property, "field ") && slices.Contains(f.held, "fields")
}

// Lacks returns those of several properties that the lines do not give back.
func (f *Format) Lacks(properties []string) (lacks []string) {
	for _, p := range properties {
		if !f.Holds(p) {
			lacks = append(lacks, p)
		}
	}
	return lacks
}

// Held names what the lines give back, for people.
func (f *Format) Held() string {
	if f.held == nil {
		return "all of a record"
	}
	if len(f.held) == 0 {
		return "nothing that can be read back"
	}
	return strings.Join(f.held, ", ")
}

// AppendJSON writes a record that was read from a line, without what the line does not hold.
func (f *Format) AppendJSON(dst []byte, r *record.Record) []byte {
	start := len(dst)
	dst = r.AppendJSON(dst)
	for _, property := range []string{"facility", "severity"} {
		if f.Holds(property) {
			continue
		}
		at := start + bytes.Index(dst[start:], []byte(`"`+property+`":"`)) // before it stand times alone
		end := at + len(property) + 4
		end += bytes.IndexByte(dst[end:], '"') + 1
		if dst[end] == ',' {
			end++
		} else if dst[at-1] == ',' {
			at--
		}
		dst = append(dst[:at], dst[end:]...)
	}
	return dst
}
