// Package route decides where each record goes. It walks the rules of a plan from top
// to bottom, and every rule that matches acts.
//
// A [Table] is made once, when a plan is read: for each of the 192 priorities it is
// worked out which rules can still match, and which surely do, so that a record meets
// only those that its priority leaves open. [Table.Route] judges a batch and fills a
// [Routing], which says which outlets each record goes to; [Table.Explain] says why.
//
// A table may be used by several goroutines at a time, a Routing by one. The package
// knows records and conditions and nothing else of the project.
package route

import (
	"math"
	"slices"
	"strings"

	"oakbarrel/core/condition"
	"oakbarrel/core/decode"
	"oakbarrel/core/limit"
	"oakbarrel/core/record"
)

// Rule acts on the records that meet its condition. Outlets are numbers from 0.
type Rule struct {
	Name   string
	When   *condition.Condition
	Limit  *limit.Shared // of the records that the rule takes; what is over is dropped. nil for none
	Fold   *Fold         // of repeats, nil for none
	Change Change        // first of all
	Send   []int
	Drop   bool // the record is dropped, and the walk ends
	Done   bool // the walk ends here for what matched
}

func (r *Rule) ends() bool { return r.Drop || r.Done }

// Otherwise acts on the records that no rule dropped, or sent to an outlet that keeps them.
type Otherwise struct {
	Send []int
	Drop bool
	// Passing are the outlets that keep nothing: they only tell somebody.
	Passing []int
}

// Table holds the rules of one plan, compiled. It may be used by several goroutines at a time.
type Table struct {
	rules     []Rule
	otherwise Otherwise
	outlets   int
	masks     [][]uint64 // the outlets of each rule, and of otherwise at the end
	keeping   []uint64   // the outlets that keep what they get
	sends     []bool     // which rules send to such outlets

	// A record meets three lists of rules, all in order: those that its priority
	// leaves open, those of them that are about its app alone, and those that
	// are about texts, one of which it has.
	walks    [record.Priorities][]int32
	about    []int // of each rule
	byApp    appIndex
	byText   *literals                              // nil where no rule is about texts
	texts    [record.Priorities]bool                // whether a rule about texts is open
	verdicts [record.Priorities][]condition.Verdict // of each rule

	// plain tells of a priority whether the rules that it leaves open do nothing
	// but send, so that their order does not matter. Then sure has the outlets of
	// those that match all its records, and walks only the others.
	plain [record.Priorities]bool
	sure  [record.Priorities][]uint64

	// settled has the outlets of a plain priority whose records go the same way
	// all of them, nil for one whose do not.
	settled [record.Priorities][]uint64

	changes                 []bool // which rules change something
	firstChange, lastChange int

	tally tally
}

// NewTable compiles rules. It keeps them; the caller may not change them any more.
func NewTable(rules []Rule, otherwise Otherwise, outlets int) *Table {
	t := &Table{rules: rules, otherwise: otherwise, outlets: outlets, keeping: mask(nil, outlets)}
	for o := range outlets {
		if !slices.Contains(otherwise.Passing, o) {
			t.keeping[o/64] |= 1 << (o % 64)
		}
	}
	t.firstChange, t.lastChange = len(rules), -1
	for i := range rules {
		c := &rules[i].Change
		if t.changes = append(t.changes, !c.isZero()); t.changes[i] {
			t.firstChange, t.lastChange = min(t.firstChange, i), i
		}
		t.masks = append(t.masks, mask(rules[i].Send, outlets))
		t.sends = append(t.sends, t.kept(t.masks[i]))
	}
	t.index()
	t.masks = append(t.masks, mask(otherwise.Send, outlets))
	t.tally = newTally(rules)
	for p := range t.walks {
		t.plan(record.Priority(p))
		t.planPlain(record.Priority(p))
	}
	return t
}

// What a rule is about, so that only records meet it that have one of its keys.
const (
	aboutAll = iota
	aboutApps
	aboutTexts
)

// maxKeyed bounds the texts by which rules are found; rules that find no room
// are met by all records.
const maxKeyed = 10_000

// index finds out what each rule is about.
func (t *Table) index() {
	texts, size, apps := map[string][]int32{}, 0, map[string][]int32{}
	for i := range t.rules {
		kind := aboutAll
		keys, ok := t.rules[i].When.Apps()
		if ok {
			kind = aboutApps
			for _, app := range keys {
				apps[app] = appendOnce(apps[app], int32(i))
			}
		} else if keys, ok = t.rules[i].When.Texts(); ok && size+len(keys) <= maxKeyed {
			kind = aboutTexts
			size += len(keys)
			for _, text := range keys {
				text = strings.ToLower(text)
				texts[text] = appendOnce(texts[text], int32(i))
			}
		}
		t.about = append(t.about, kind)
	}
	t.byApp = newAppIndex(apps)
	if len(texts) > 0 {
		t.byText = newLiterals(texts)
	}
}

func appendOnce(rules []int32, i int32) []int32 {
	if slices.Contains(rules, i) {
		return rules
	}
	return append(rules, i)
}

// plan finds out which rules can match a priority: none behind one that surely
// matches and ends the walk.
func (t *Table) plan(p record.Priority) {
	verdicts := make([]condition.Verdict, len(t.rules))
	t.verdicts[p] = verdicts
	for i := range t.rules {
		verdicts[i] = t.rules[i].When.On(p)
		if verdicts[i] == condition.Never {
			continue
		}
		switch t.about[i] {
		case aboutTexts:
			t.texts[p] = true
		case aboutAll:
			t.walks[p] = append(t.walks[p], int32(i))
		}
		if verdicts[i] == condition.Always && t.rules[i].ends() && i > t.lastChange {
			return // else a record may come to be of this priority behind here
		}
	}
}

// planPlain finds out whether a priority is plain.
func (t *Table) planPlain(p record.Priority) {
	if t.lastChange >= 0 {
		return // a record may come to be of this priority on its way
	}
	verdicts, sure := t.verdicts[p], mask(nil, t.outlets)
	var walk []int32
	settled := true
	var surely []int32
	for i := range t.rules {
		rule := &t.rules[i]
		switch {
		case verdicts[i] == condition.Never:
			continue
		case rule.ends() || rule.Limit != nil || rule.Fold != nil:
			return
		case verdicts[i] == condition.Always:
			add(sure, t.masks[i])
			surely = append(surely, int32(i))
		default:
			settled = false
			if t.about[i] == aboutAll {
				walk = append(walk, int32(i))
			}
		}
	}
	if settled && t.kept(sure) {
		t.settled[p] = sure
	}
	t.plain[p], t.sure[p], t.walks[p] = true, sure, walk
	t.tally.settle(p, surely)
}

func mask(outlets []int, total int) []uint64 {
	words := make([]uint64, (total+63)/64)
	for _, o := range outlets {
		words[o/64] |= 1 << (o % 64)
	}
	return words
}

// Routing says which outlets each record of a batch goes to. The zero value is
// ready, and is used again for batch after batch.
type Routing struct {
	words []uint64
	each  int    // words a record
	arena []byte // the texts that rules have changed
	found []int32
	saved []saved
	taken []*limit.Shared // of the limits of rules
	met   []meeting       // of the folds of rules
	hits  hits

	decoder *decode.Decoder // of rules that decode, nil until one does
}

// meeting is what a fold has counted.
type meeting struct {
	run    *run
	repeat bool
}

// saved is a record as it was before rules changed it.
type saved struct {
	at     int
	record record.Record
}

// Before returns record i of b as it was before rules changed it.
func (m *Routing) Before(b *record.Batch, i int) record.Record {
	r := b.Records[i]
	for _, s := range m.saved {
		if s.at == i {
			r = s.record
		}
	}
	r.SetData(r.Data)
	return r
}

// Undo takes back what rules have changed in the records of b, and what their
// limits have counted.
func (m *Routing) Undo(b *record.Batch) {
	for i := range m.saved {
		s := &m.saved[i]
		b.Records[s.at] = s.record
		b.Records[s.at].SetData(s.record.Data)
	}
	m.saved = m.saved[:0]
	for _, l := range m.taken {
		l.Give()
	}
	for _, met := range m.met {
		met.run.undo(met.repeat)
	}
	m.taken, m.met = m.taken[:0], m.met[:0]
	m.hits.clear()
}

func (m *Routing) reset(records, outlets int) {
	m.each = (outlets + 63) / 64
	need := records * m.each
	if cap(m.words) < need {
		m.words = make([]uint64, need)
	}
	m.words = m.words[:need]
	clear(m.words)
	m.arena, m.saved, m.taken, m.met = m.arena[:0], m.saved[:0], m.taken[:0], m.met[:0]
}

// Has tells whether record i goes to an outlet.
func (m *Routing) Has(i, outlet int) bool {
	return m.words[i*m.each+outlet>>6]>>(outlet&63)&1 == 1
}

// Take takes the records of a batch away from an outlet, and returns how many they were.
func (m *Routing) Take(records, outlet int) (taken int) {
	for i := range records {
		if m.Has(i, outlet) {
			m.words[i*m.each+outlet>>6] &^= 1 << (outlet & 63)
			taken++
		}
	}
	return taken
}

// Counts is what became of the records of a batch: each is routed to at least
// one outlet, or dropped on purpose.
type Counts struct{ In, Routed, Dropped, Limited, Folded int }

// Route walks the rules for each record of b and fills m. What rules change in
// the records is valid until m is used again. It allocates nothing once m has
// grown to the size of the batches, but where a mask finds something.
func (t *Table) Route(b *record.Batch, m *Routing) Counts {
	m.reset(len(b.Records), t.outlets)
	m.hits.reset(t.tally.size())
	counts := Counts{In: len(b.Records)}
	for i := range b.Records {
		switch t.route(b, i, m) {
		case routed:
			counts.Routed++
			continue
		case limited:
			counts.Limited++
		case folded:
			counts.Folded++
		}
		counts.Dropped++
	}
	return counts
}

// change changes record at of a batch as a rule says, and keeps it as it was before the
// first change. It is apart from route, whose frame stands on the stack of each connection.
func (m *Routing) change(r *record.Record, at int, rule *Rule, changed, labelled bool) bool {
	if !changed {
		m.saved = append(m.saved, saved{at, *r})
	}
	m.arena, labelled = rule.Change.apply(r, m.arena, labelled, m)
	return labelled
}

// fate is what becomes of a record: it is routed, or dropped on purpose, by
// the limit of a rule, or as a repeat.
type fate uint8

const (
	dropped fate = iota
	routed
	limited
	folded
)

// route finds out where a record goes, and what becomes of it.
func (t *Table) route(b *record.Batch, at int, m *Routing) fate {
	r, row := &b.Records[at], m.words[at*m.each:(at+1)*m.each]
	if all := t.settled[r.Priority]; all != nil {
		m.hits.add(t.tally.groupOf[r.Priority])
		add(row, all)
		return routed
	}
	if t.plain[r.Priority] {
		return t.routePlain(r, row, m)
	}
	lists := t.listsOf(r, m, -1)
	verdicts := t.verdicts[r.Priority]
	sent, changed, labelled := false, false, false
	var first *run // the record begins it, if repeats follow
walk:
	for i := lists.nextRule(); i >= 0; i = lists.nextRule() {
		rule := &t.rules[i]
		if verdicts[i] == condition.Never || verdicts[i] == condition.Maybe && !rule.When.Match(r) {
			continue
		}
		m.hits.add(i)
		if rule.Fold != nil && first == nil {
			met, repeat := rule.Fold.meet(r, row)
			if met != nil {
				m.met = append(m.met, meeting{met, repeat})
			}
			if repeat {
				return end(sent, folded)
			}
			first = met
		}
		if rule.Limit != nil {
			if !rule.Limit.Take(nanos(r.Received)) {
				first.undo(false)
				return end(sent, limited)
			}
			m.taken = append(m.taken, rule.Limit)
		}
		if t.changes[i] {
			labelled = m.change(r, at, rule, changed, labelled)
			changed = true
			lists, verdicts = t.listsOf(r, m, i), t.verdicts[r.Priority]
		}
		switch {
		case rule.Drop:
			first.undo(false)
			return end(sent, dropped)
		case len(rule.Send) > 0:
			sent = sent || t.sends[i]
			add(row, t.masks[i])
		}
		if rule.Done {
			break walk
		}
	}
	if !sent {
		m.hits.add(int32(len(t.rules)))
		if t.otherwise.Drop {
			first.undo(false)
			return dropped
		}
		add(row, t.masks[len(t.rules)])
	}
	first.goes(r, row)
	return routed
}

// routePlain routes a record of a plain priority.
func (t *Table) routePlain(r *record.Record, row []uint64, m *Routing) fate {
	m.hits.add(t.tally.groupOf[r.Priority])
	add(row, t.sure[r.Priority])
	verdicts := t.verdicts[r.Priority]
	l := t.listsOf(r, m, -1)
	for _, list := range [...][]int32{l.walk, l.app, l.text} {
		for _, i := range list {
			if verdicts[i] == condition.Maybe && t.rules[i].When.Match(r) {
				m.hits.add(i)
				add(row, t.masks[i])
			}
		}
	}
	if t.kept(row) {
		return routed
	}
	m.hits.add(int32(len(t.rules)))
	if t.otherwise.Drop {
		return dropped
	}
	add(row, t.masks[len(t.rules)])
	return routed
}

// kept tells whether an outlet that keeps records is among those of a row.
func (t *Table) kept(row []uint64) bool {
	for i, word := range row {
		if word&t.keeping[i] != 0 {
			return true
		}
	}
	return false
}

// end is the fate of a record whose walk ends: what was sent before stays sent.
func end(sent bool, f fate) fate {
	if sent {
		return routed
	}
	return f
}

// lists are the rules that a record still has to meet.
type lists struct{ walk, app, text []int32 }

// listsOf returns the rules behind rule i that a record has to meet.
func (t *Table) listsOf(r *record.Record, m *Routing, i int32) (l lists) {
	l.walk, l.app = t.walks[r.Priority], t.byApp.rules(r.App)
	if t.byText != nil && t.texts[r.Priority] {
		m.found = t.byText.find(m.found[:0], r.Text)
		l.text = m.found
	}
	if i >= 0 {
		l.walk, l.app, l.text = after(l.walk, i), after(l.app, i), after(l.text, i)
	}
	return l
}

// after returns the rules of a list behind rule i.
func after(rules []int32, i int32) []int32 {
	at, found := slices.BinarySearch(rules, i)
	if found {
		at++
	}
	return rules[at:]
}

// nextRule takes the next rule, -1 where none is left.
func (l *lists) nextRule() int32 {
	const none = math.MaxInt32
	walk, app, text := int32(none), int32(none), int32(none)
	if len(l.walk) > 0 {
		walk = l.walk[0]
	}
	if len(l.app) > 0 {
		app = l.app[0]
	}
	if len(l.text) > 0 {
		text = l.text[0]
	}
	switch least := min(walk, app, text); least {
	case none:
		return -1
	case walk:
		l.walk = l.walk[1:]
		return least
	case app:
		l.app = l.app[1:]
		return least
	default:
		l.text = l.text[1:]
		return least
	}
}

func add(row, mask []uint64) {
	for i, w := range mask {
		row[i] |= w
	}
}

// Unreachable returns the rules that no record can come to: those behind rules
// that end the walk for every priority that they are about, and those behind
// one that takes away all that they match. A rule whose own condition can
// never hold is not among them, nor one behind a rule that changes records.
func (t *Table) Unreachable() (rules []int) {
	reached := make([]bool, len(t.rules))
	for p := range t.verdicts {
		for i, v := range t.verdicts[p] {
			reached[i] = reached[i] || v != condition.Never
		}
	}
	for i := range min(len(t.rules), t.firstChange+1) {
		when := t.rules[i].When
		if when.Contradicts() {
			continue
		}
		behind := !reached[i]
		for j := range i {
			behind = behind || t.rules[j].ends() && when.Implies(t.rules[j].When)
		}
		if behind {
			rules = append(rules, i)
		}
	}
	return rules
}

// Asks returns what the conditions of the rules ask of a record, see [condition.Condition.Asks].
func (t *Table) Asks() (asked []string) {
	for i := range t.rules {
		asked = append(asked, t.rules[i].When.Asks()...)
	}
	slices.Sort(asked)
	return slices.Compact(asked)
}

// Names returns the names of the rules, in order.
func (t *Table) Names() (names []string) {
	for i := range t.rules {
		names = append(names, t.rules[i].Name)
	}
	return names
}

// Without returns the table as if it did not have the rules of a name, which keep their
// places.
func (t *Table) Without(name string) *Table {
	rules := slices.Clone(t.rules)
	for i := range rules {
		if rules[i].Name == name {
			rules[i].When = condition.Nothing
		}
	}
	return NewTable(rules, t.otherwise, t.outlets)
}

// WithThreshold returns the table with the threshold of a rule lowered, and
// the threshold that it has now.
func (t *Table) WithThreshold(rule int, to record.Severity) (lowered *Table, from record.Severity, err error) {
	rules := slices.Clone(t.rules)
	if rules[rule].When, from, err = rules[rule].When.WithThreshold(to); err != nil {
		return nil, from, err
	}
	return NewTable(rules, t.otherwise, t.outlets), from, nil
}
