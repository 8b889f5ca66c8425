package format

import (
	"bytes"
	"strings"

	"oakbarrel/core/record"
)

// Value is a text that may have places, as a label has: "{field service}". It may be used
// by several goroutines at a time.
type Value struct {
	text string
	t    template
}

// HasPlaces tells whether a text is to be read by [ParseValue]: it has braces.
func HasPlaces(s string) bool { return strings.ContainsAny(s, "{}") }

// ParseValue reads a text with places. The error, if any, is an *[Error].
func ParseValue(s string) (*Value, error) {
	t, err := parseTemplate(s)
	if err != nil {
		return nil, err
	}
	return &Value{s, t}, nil
}

// String returns the value as the plan has it.
func (v *Value) String() string { return v.text }

// Append writes the value for a record. It is false, and nothing is written, where a
// place has nothing to show.
func (v *Value) Append(dst []byte, r *record.Record) ([]byte, bool) {
	start := len(dst)
	for i := range v.t {
		dst = append(dst, v.t[i].text...)
		if v.t[i].property == nil {
			continue
		}
		at := len(dst)
		dst = v.t[i].property.append(dst, r)
		if shown := bytes.TrimSpace(dst[at:]); len(shown) == 1 && shown[0] == missing {
			return dst[:start], false
		}
	}
	return dst, true
}

// Named is a value with the name of the label, or of the property, that it is for.
type Named struct {
	Name  string
	Value *Value
}
