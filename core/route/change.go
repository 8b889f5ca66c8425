package route

import (
	"bytes"
	"fmt"
	"regexp"

	"oakbarrel/core/decode"
	"oakbarrel/core/format"
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
	Values    []format.Named // of host, app and labels that depend on the record
	Masks     []*regexp.Regexp
	Decode    []decode.Step // that the record is tried as, before all else
	Reading   decode.Reading
}

// labelElement is the field that holds what rules add.
const labelElement = "label@32473"

// masked stands where a mask has found something.
const masked = "***"

func (c *Change) isZero() bool {
	return c.Severity == nil && c.Facility == nil && c.Host == nil && c.App == nil && c.Labels == nil && c.Values == nil && c.Masks == nil && c.Decode == nil
}

// apply changes a record. New texts are put at the end of arena, which is
// returned; labelled tells whether a rule before has labelled the record, and then whether
// this one has, too. Of m the decoder is used.
func (c *Change) apply(r *record.Record, arena []byte, labelled bool, m *Routing) ([]byte, bool) {
	r.Unjudge()
	if c.Decode != nil {
		if m.decoder == nil {
			m.decoder = new(decode.Decoder)
		}
		d := m.decoder
		d.Reading, d.Memory = &c.Reading, arena
		d.Decode(r, c.Decode)
		arena = d.Memory
	}
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
		arena = label(r, arena, c.Labels, labelled)
		labelled = true
	}
	for _, v := range c.Values {
		arena, labelled = setValue(r, v, arena, labelled)
	}
	return arena, labelled
}

// setValue sets the host or the app of a record, or adds a label, where the record has
// what the value shows.
func setValue(r *record.Record, v format.Named, arena []byte, labelled bool) ([]byte, bool) {
	start := len(arena)
	arena, ok := v.Value.Append(arena, r)
	if !ok {
		return arena, labelled
	}
	value := arena[start:len(arena):len(arena)]
	switch v.Name {
	case "host":
		r.Host = value
	case "app":
		r.App = value
	default:
		return label(r, arena, []record.Label{{Name: v.Name, Value: string(value)}}, labelled), true
	}
	return arena, labelled
}

// label adds the labels to the fields, to the element that a rule before has made.
func label(r *record.Record, arena []byte, labels []record.Label, labelled bool) []byte {
	start := len(arena)
	arena = record.AppendLabels(arena, r.Data, labelElement, labels, labelled)
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

// decoded tells what decoding made of a record, for people.
func decoded(before, after *record.Record) string {
	if bytes.Equal(before.Data, after.Data) && bytes.Equal(before.Text, after.Text) && before.Time == after.Time {
		return "none of the forms of decode fits"
	}
	return fmt.Sprintf("it is decoded: text %s, fields %s", record.Clip(after.Text), record.Clip(after.Fields().Root().AppendJSON(nil)))
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
	if c.Decode != nil {
		all = append(all, decoded(before, after))
	}
	if c.Host != nil {
		all = append(all, "host becomes "+string(c.Host))
	}
	if c.App != nil {
		all = append(all, "app becomes "+string(c.App))
	}
	for _, v := range c.Values {
		if value, ok := v.Value.Append(nil, after); ok {
			all = append(all, fmt.Sprintf("%s becomes %s", v.Name, record.Clip(value)))
		} else {
			all = append(all, fmt.Sprintf("%s stays, as the record has nothing for %s", v.Name, v.Value))
		}
	}
	for _, l := range c.Labels {
		all = append(all, fmt.Sprintf("label %s=%s is added", l.Name, l.Value))
	}
	if c.Masks != nil && !bytes.Equal(before.Text, after.Text) {
		all = append(all, fmt.Sprintf("the text is masked: %s", record.Clip(after.Text)))
	}
	if c.Masks != nil && c.Labels == nil && !bytes.Equal(before.Data, after.Data) {
		all = append(all, "fields are masked")
	}
	return all
}
