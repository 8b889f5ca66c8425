package route

import (
	"bytes"
	"fmt"
	"regexp"

	"oakbarrel/core/record"
)

// Change is what a rule changes of the records that meet its condition. It
// holds for the rules behind it and for every outlet. The zero Change changes
// nothing.
type Change struct {
	Severity  *record.Severity // nil leaves it
	Facility  *record.Facility
	Host, App []byte         // nil leaves them
	Labels    []record.Label // fields of the element label@32473
	Masks     []*regexp.Regexp
}

// labelElement is the field that holds what rules add.
const labelElement = "label@32473"

// masked stands where a mask has found something.
const masked = "***"

func (c *Change) isZero() bool {
	return c.Severity == nil && c.Facility == nil && c.Host == nil && c.App == nil && c.Labels == nil && c.Masks == nil
}

// apply changes a record. New texts are put at the end of arena, which is
// returned; labelled tells whether a rule before has labelled the record.
func (c *Change) apply(r *record.Record, arena []byte, labelled bool) []byte {
	r.Unjudge()
	if c.Severity != nil {
		r.Priority = record.MakePriority(r.Facility(), *c.Severity)
	}
	if c.Facility != nil {
		r.Priority = record.MakePriority(*c.Facility, r.Severity())
	}
	if c.Host != nil {
		r.Host = c.Host
	}
	if c.App != nil {
		r.App = c.App
	}
	for _, mask := range c.Masks {
		arena = maskRecord(r, mask, arena)
	}
	if len(c.Labels) > 0 {
		arena = c.label(r, arena, labelled)
	}
	return arena
}

// label adds the labels to the fields, to the element that a rule before has made.
func (c *Change) label(r *record.Record, arena []byte, labelled bool) []byte {
	start := len(arena)
	arena = record.AppendLabels(arena, r.Data, labelElement, c.Labels, labelled)
	r.SetData(arena[start:len(arena):len(arena)])
	return arena
}

// maskRecord replaces what a mask finds in the text, in the values of fields,
// and in the message as it came.
func maskRecord(r *record.Record, mask *regexp.Regexp, arena []byte) []byte {
	replace := func(dst, v []byte) []byte { return appendMasked(dst, v, mask) }
	for _, text := range []*[]byte{&r.Text, &r.Raw} {
		if mask.Match(*text) {
			start := len(arena)
			arena = replace(arena, *text)
			*text = arena[start:len(arena):len(arena)]
		}
	}
	if r.Data != nil {
		start := len(arena)
		arena = record.AppendMappedData(arena, r.Data, replace)
		r.SetData(arena[start:len(arena):len(arena)])
	}
	return arena
}

func appendMasked(dst, v []byte, mask *regexp.Regexp) []byte {
	at := 0
	for _, found := range mask.FindAllIndex(v, -1) {
		if found[0] < found[1] {
			dst = append(append(dst, v[at:found[0]]...), masked...)
			at = found[1]
		}
	}
	return append(dst, v[at:]...)
}

// changes tells what a change does to a record, for people.
func (c *Change) changes(before, after *record.Record) (all []string) {
	if before.Severity() != after.Severity() {
		all = append(all, fmt.Sprintf("severity %s becomes %s", before.Severity(), after.Severity()))
	}
	if before.Facility() != after.Facility() {
		all = append(all, fmt.Sprintf("facility %s becomes %s", before.Facility(), after.Facility()))
	}
	if c.Host != nil {
		all = append(all, "host becomes "+string(c.Host))
	}
	if c.App != nil {
		all = append(all, "app becomes "+string(c.App))
	}
	for _, l := range c.Labels {
		all = append(all, fmt.Sprintf("label %s=%s is added", l.Name, l.Value))
	}
	if !bytes.Equal(before.Text, after.Text) {
		all = append(all, fmt.Sprintf("the text is masked: %s", record.Clip(after.Text)))
	}
	if c.Labels == nil && !bytes.Equal(before.Data, after.Data) {
		all = append(all, "fields are masked")
	}
	return all
}
