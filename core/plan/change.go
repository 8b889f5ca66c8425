package plan

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/format"
	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// maxMask bounds the regular expression of a mask, in bytes.
const maxMask = 1000

// readChange reads what a rule changes, and tells whether it changes anything.
func (r *planReader) readChange(m mapping, c *route.Change) (changes bool) {
	if e, ok := m.get("decode"); ok {
		changes = true
		c.Decode, c.Reading = r.readDecode(e), r.reading
	}
	if e, ok := m.get("severity"); ok {
		changes = true
		c.Severity = r.severity(e)
	}
	if e, ok := m.get("label"); ok {
		changes = true
		r.readLabels(e, c)
	}
	if e, ok := m.get("mask"); ok {
		changes = true
		c.Masks = r.readMasks(e)
	}
	return changes
}

func (r *planReader) severity(e entry) *record.Severity {
	v, ok := r.text(e, "a severity, such as notice")
	if !ok {
		return nil
	}
	s, ok := record.ParseSeverity(v.text)
	if !ok {
		r.unknownWord(e, v.text, record.Severities[:])
		return nil
	}
	return &s
}

// unknownWord reports a value that is none of a list.
func (r *planReader) unknownWord(e entry, text string, known []string) {
	mend := "known are " + strings.Join(known, ", ")
	if word, near := nearest.Word(text, known); near {
		mend = fmt.Sprintf("did you mean %s?", word)
	}
	r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(text)), mend)
}

// readLabels reads fields to add; facility, host and app name the properties.
func (r *planReader) readLabels(e entry, c *route.Change) {
	labels := r.names(e.value, e.at, "label", "label: {team: pumps}")
	if len(labels) == 0 && !r.findings.Refused() {
		r.fail(e.at, "label adds nothing", "write label: {NAME: VALUE}")
	}
	for _, l := range labels {
		v, ok := r.text(l, "a value, such as pumps")
		if !ok {
			continue
		}
		if value := r.labelValue(l, v, "severity", "procid", "msgid", "text", "facility"); value != nil {
			c.Values = append(c.Values, format.Named{Name: l.key, Value: value})
			continue
		}
		switch l.key {
		case "facility":
			f := r.facility(l, v)
			c.Facility = &f
		case "host":
			c.Host = []byte(v.text)
		case "app":
			c.App = []byte(v.text)
		case "severity", "procid", "msgid", "text":
			r.fail(l.at, fmt.Sprintf("a label cannot be %s", l.key), "a rule sets a severity with severity: notice; the others stay as they came")
		default:
			c.Labels = append(c.Labels, r.fieldLabel(l, v))
		}
	}
}

// labelValue reads the value of a label that has places, nil where it has none, or the
// label is none of a record's own text.
func (r *planReader) labelValue(l entry, v scalar, not ...string) *format.Value {
	if !format.HasPlaces(v.text) || slices.Contains(not, l.key) {
		return nil
	}
	value, err := format.ParseValue(v.text)
	var wrong *format.Error
	if errors.As(err, &wrong) {
		r.fail(v.locate(wrong.Offset), "the value cannot be read: "+wrong.What, wrong.Mend)
		return nil
	}
	if l.key != "host" && l.key != "app" {
		r.fieldLabel(l, v)
	}
	return value
}

func (r *planReader) facility(l entry, v scalar) record.Facility {
	f, ok := record.ParseFacility(v.text)
	if !ok {
		r.unknownWord(l, v.text, record.Facilities[:])
	}
	return f
}

// fieldLabel reads a label that is no property, but a field.
func (r *planReader) fieldLabel(l entry, v scalar) record.Label {
	if len(l.key) > 32 {
		r.fail(l.at, "the name of a label has at most 32 characters", "choose a shorter one")
	}
	return record.Label{Name: l.key, Value: v.text}
}

// readMasks reads one regular expression or a list of them.
func (r *planReader) readMasks(e entry) (masks []*regexp.Regexp) {
	items := []ast.Node{e.value}
	if list, ok := e.value.(*ast.SequenceNode); ok {
		items = list.Values
	}
	for _, item := range items {
		s, ok := r.scalarOf(item)
		if !ok || s.text == "" {
			r.wrongType(item, e.at, "mask", "a regular expression, or a list of them", `mask: '\b\d{16}\b'`)
			continue
		}
		re, err := regexp.Compile(s.text)
		switch {
		case err != nil:
			r.fail(positionOf(item), fmt.Sprintf("the mask cannot be read: %v", err), "the syntax is RE2; put it between single quotes, so that YAML leaves backslashes alone")
		case len(s.text) > maxMask:
			r.fail(positionOf(item), "the mask is too long", fmt.Sprintf("at most %d bytes are allowed", maxMask))
		case re.MatchString(""):
			r.fail(positionOf(item), "the mask finds the empty text, and with it everything", "write what at least one character of a secret looks like")
		default:
			masks = append(masks, re)
		}
	}
	return masks
}
