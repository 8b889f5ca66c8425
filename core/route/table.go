// Package route decides where each record goes: it walks the rules of a plan.
//
// It knows records and conditions and nothing else of the project. Its central
// type is [Table].
package route

import (
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

// Rule acts on the records that meet its condition. Outlets are numbers from 0.
type Rule struct {
	Name string
	When *condition.Condition
	Send []int
	Drop bool // the record is dropped, and the walk ends
	Done bool // the walk ends here for what matched
}

func (r *Rule) ends() bool { return r.Drop || r.Done }

// Otherwise acts on the records that no rule sent or dropped.
type Otherwise struct {
	Send []int
	Drop bool
}

// Table holds the rules of one plan, compiled. It may be used by several goroutines at a time.
type Table struct {
	rules     []Rule
	otherwise Otherwise
	outlets   int
	walks     [record.Priorities][]step // the rules that can match a priority, in order
	masks     [][]uint64                // the outlets of each rule, and of otherwise at the end
}

// step is a rule on the walk of a priority.
type step struct {
	rule    int32
	certain bool // every record of the priority meets the condition
}

// NewTable compiles rules. It keeps them; the caller may not change them any more.
func NewTable(rules []Rule, otherwise Otherwise, outlets int) *Table {
	t := &Table{rules: rules, otherwise: otherwise, outlets: outlets}
	for p := range t.walks {
		t.walks[p] = t.walk(record.Priority(p))
	}
	for i := range rules {
		t.masks = append(t.masks, mask(rules[i].Send, outlets))
	}
	t.masks = append(t.masks, mask(otherwise.Send, outlets))
	return t
}

func (t *Table) walk(p record.Priority) (steps []step) {
	for i := range t.rules {
		verdict := t.rules[i].When.On(p)
		if verdict == condition.Never {
			continue
		}
		certain := verdict == condition.Always
		steps = append(steps, step{int32(i), certain})
		if certain && t.rules[i].ends() {
			break
		}
	}
	return steps
}

func mask(outlets []int, total int) []uint64 {
	words := make([]uint64, (total+63)/64)
	for _, o := range outlets {
		words[o/64] |= 1 << (o % 64)
	}
	return words
}

// Marks says which outlets each record of a batch goes to. The zero value is
// ready, and is used again for batch after batch.
type Marks struct {
	words []uint64
	each  int // words a record
}

func (m *Marks) reset(records, outlets int) {
	m.each = (outlets + 63) / 64
	need := records * m.each
	if cap(m.words) < need {
		m.words = make([]uint64, need)
	}
	m.words = m.words[:need]
	clear(m.words)
}

// Has tells whether record i goes to an outlet.
func (m *Marks) Has(i, outlet int) bool {
	return m.words[i*m.each+outlet>>6]>>(outlet&63)&1 == 1
}

// Counts is what became of the records of a batch: each is routed to at least
// one outlet, or dropped on purpose.
type Counts struct{ In, Routed, Dropped int }

// Mark walks the rules for each record of b and fills m. It allocates nothing
// once m has grown to the size of the batches.
func (t *Table) Mark(b *record.Batch, m *Marks) Counts {
	m.reset(len(b.Records), t.outlets)
	counts := Counts{In: len(b.Records)}
	for i := range b.Records {
		if t.mark(&b.Records[i], m.words[i*m.each:(i+1)*m.each]) {
			counts.Routed++
		} else {
			counts.Dropped++
		}
	}
	return counts
}

// mark tells whether the record goes to any outlet.
func (t *Table) mark(r *record.Record, row []uint64) (routed bool) {
	dropped := false
	for _, s := range t.walks[r.Priority] {
		rule := &t.rules[s.rule]
		if !s.certain && !rule.When.Match(r) {
			continue
		}
		if rule.Drop {
			dropped = true
			break
		}
		routed = true
		add(row, t.masks[s.rule])
		if rule.Done {
			break
		}
	}
	if routed || dropped || t.otherwise.Drop {
		return routed
	}
	add(row, t.masks[len(t.rules)])
	return true
}

func add(row, mask []uint64) {
	for i, w := range mask {
		row[i] |= w
	}
}

// Unreachable returns the rules that no record can come to: those behind rules
// that end the walk for every priority that they are about, and those behind
// one that takes away all that they match. A rule whose own condition can
// never hold is not among them.
func (t *Table) Unreachable() (rules []int) {
	var reached = make([]bool, len(t.rules))
	for p := range t.walks {
		for _, s := range t.walks[p] {
			reached[s.rule] = true
		}
	}
	for i := range t.rules {
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

// Names returns the names of the rules, in order.
func (t *Table) Names() (names []string) {
	for i := range t.rules {
		names = append(names, t.rules[i].Name)
	}
	return names
}
