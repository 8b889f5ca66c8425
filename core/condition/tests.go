package condition

import (
	"fmt"
	"net/netip"
	"regexp"
	"strings"

	"oakbarrel/core/record"
)

// The tests that look at a priority, an intake, a stream or a peer.

type severityTest struct {
	set   uint8 // a bit for each severity
	text  string
	least bool // written with at least
}

func (t *severityTest) add(s record.Severity)        { t.set |= 1 << s }
func (t *severityTest) holds(s record.Severity) bool { return t.set>>s&1 == 1 }
func (t *severityTest) match(r *record.Record) bool  { return t.holds(r.Severity()) }
func (t *severityTest) on(p record.Priority) Verdict { return certain(t.holds(p.Severity())) }
func (t *severityTest) contradicts() bool            { return t.set == 0 }
func (t *severityTest) String() string               { return t.text }
func (t *severityTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.text, "severity is "+r.Severity().String())
}

// list returns the severities of the set, the most serious first.
func (t *severityTest) list() string {
	var names []string
	for s := range record.Severity(8) {
		if t.holds(s) {
			names = append(names, s.String())
		}
	}
	return strings.Join(names, ", ")
}

func certain(holds bool) Verdict {
	if holds {
		return Always
	}
	return Never
}

type facilityTest struct {
	set   uint32 // a bit for each facility
	names []string
}

func (t *facilityTest) holds(f record.Facility) bool { return t.set>>f&1 == 1 }
func (t *facilityTest) match(r *record.Record) bool  { return t.holds(r.Facility()) }
func (t *facilityTest) on(p record.Priority) Verdict { return certain(t.holds(p.Facility())) }
func (t *facilityTest) contradicts() bool            { return false }
func (t *facilityTest) String() string               { return oneOf("facility", t.names) }
func (t *facilityTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), "facility is "+r.Facility().String())
}

// oneOf writes a test of a few values.
func oneOf(subject string, values []string) string {
	if len(values) == 1 {
		return subject + " is " + values[0]
	}
	return subject + " in (" + strings.Join(values, ", ") + ")"
}

type intakeTest struct{ names []string }

func (t *intakeTest) match(r *record.Record) bool {
	for _, name := range t.names {
		if name == r.Intake {
			return true
		}
	}
	return false
}

func (t *intakeTest) on(record.Priority) Verdict { return Maybe }
func (t *intakeTest) contradicts() bool          { return false }
func (t *intakeTest) String() string             { return oneOf("intake", t.names) }
func (t *intakeTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), says("intake", []byte(r.Intake), r.Intake != ""))
}

type streamTest struct {
	set   uint8
	names []string
}

func (t *streamTest) match(r *record.Record) bool { return t.set>>r.Stream&1 == 1 }
func (t *streamTest) on(record.Priority) Verdict  { return Maybe }
func (t *streamTest) contradicts() bool           { return false }
func (t *streamTest) String() string              { return oneOf("stream", t.names) }
func (t *streamTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), says("stream", []byte(r.Stream.String()), r.Stream != record.NoStream))
}

// peerTest holds for senders with an address within a network; an address
// alone is a network of one. The process behind a unix socket has none.
type peerTest struct {
	network netip.Prefix
	text    string
}

func (t *peerTest) match(r *record.Record) bool {
	return r.Peer != nil && r.Peer.Addr.IsValid() && t.network.Contains(r.Peer.Addr.Addr().Unmap())
}

func (t *peerTest) on(record.Priority) Verdict { return Maybe }
func (t *peerTest) contradicts() bool          { return false }
func (t *peerTest) String() string             { return t.text }
func (t *peerTest) explain(r *record.Record) (bool, string) {
	if r.Peer == nil {
		return false, t.text + ": peer is missing"
	}
	return decided(t.match(r), t.text, "peer is "+string(r.Peer.AppendText(nil)))
}

// valueTest is a test of the text of one property.
type valueTest interface {
	node
	property() property
	matchText(v []byte) bool
}

type textOp uint8

const (
	equal textOp = iota
	prefix
	suffix
	contains
	hasWord
)

var textOpNames = [...]string{"is", "starts with", "ends with", "contains", "has word"}

// textTest compares a property with one value, or with several where op is equal.
type textTest struct {
	prop   property
	op     textOp
	values []string
	list   bool // written with in
	lone   bool // written as a string alone
	fold   bool // letter case is ignored
	search []Searcher
}

func (t *textTest) prepare(fold bool) {
	t.fold = fold || t.prop.isHost()
	t.search = nil
	for _, v := range t.values {
		t.search = append(t.search, newSearcher(v, t.fold))
	}
}

func (t *textTest) property() property { return t.prop }
func (t *textTest) match(r *record.Record) bool {
	if t.prop.which == field {
		return t.prop.some(r, t)
	}
	return t.matchText(t.prop.of(r))
}

func (t *textTest) on(record.Priority) Verdict { return Maybe }
func (t *textTest) contradicts() bool          { return false }

func (t *textTest) matchText(v []byte) bool {
	for i := range t.search {
		if t.search[i].holds(t.op, v) {
			return true
		}
	}
	return false
}

func (t *textTest) String() string {
	if t.lone {
		return quote(t.values[0])
	}
	var b strings.Builder
	b.WriteString(t.prop.String() + " ")
	if t.list {
		b.WriteString("in (")
		for i, v := range t.values {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(quote(v))
		}
		b.WriteString(")")
	} else {
		b.WriteString(textOpNames[t.op] + " " + quote(t.values[0]))
	}
	if t.fold && !t.prop.isHost() && t.op != hasWord {
		b.WriteString(" ignoring case")
	}
	return b.String()
}

func (t *textTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), t.prop.says(r))
}

// expressionTest looks for a regular expression.
type expressionTest struct {
	prop   property
	source string
	fold   bool
	re     *regexp.Regexp
}

func (t *expressionTest) property() property          { return t.prop }
func (t *expressionTest) match(r *record.Record) bool { return t.prop.some(r, t) }
func (t *expressionTest) matchText(v []byte) bool     { return t.re.Match(v) }
func (t *expressionTest) on(record.Priority) Verdict  { return Maybe }
func (t *expressionTest) contradicts() bool           { return false }

func (t *expressionTest) String() string {
	flags := ""
	if t.fold {
		flags = "i"
	}
	return t.prop.String() + " matches /" + strings.ReplaceAll(t.source, "/", `\/`) + "/" + flags
}

func (t *expressionTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), t.prop.says(r))
}

// existsTest asks whether a property is there, or is not.
type existsTest struct {
	prop property
	want bool
}

func (t *existsTest) match(r *record.Record) bool { return t.prop.exists(r) == t.want }
func (t *existsTest) on(record.Priority) Verdict  { return Maybe }
func (t *existsTest) contradicts() bool           { return false }

func (t *existsTest) String() string {
	if t.want {
		return t.prop.String() + " exists"
	}
	return t.prop.String() + " missing"
}

func (t *existsTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), t.prop.says(r))
}

// numberTest compares a field as a number.
type numberTest struct {
	prop      property
	op        string
	low, high float64 // high for between only
}

func (t *numberTest) match(r *record.Record) bool { return t.prop.some(r, t) }
func (t *numberTest) on(record.Priority) Verdict  { return Maybe }
func (t *numberTest) contradicts() bool           { return false }

func (t *numberTest) matchText(v []byte) bool {
	n, ok := readNumber(v)
	if !ok {
		return false
	}
	switch t.op {
	case "<":
		return n < t.low
	case "<=":
		return n <= t.low
	case ">":
		return n > t.low
	case ">=":
		return n >= t.low
	}
	return t.low <= n && n <= t.high
}

func (t *numberTest) String() string {
	if t.op == "between" {
		return fmt.Sprintf("%s between %v and %v", t.prop, t.low, t.high)
	}
	return fmt.Sprintf("%s %s %v", t.prop, t.op, t.low)
}

func (t *numberTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), t.prop.says(r))
}

// decided puts a test and what the record says there side by side, once where
// they are the same.
func decided(matched bool, test, says string) (bool, string) {
	if test == says {
		return matched, test
	}
	return matched, test + ": " + says
}

// says tells the value of a property, for an explanation.
func says(subject string, v []byte, exists bool) string {
	if !exists {
		return subject + " is missing"
	}
	return subject + ` is "` + record.Clip(v) + `"`
}
