package route

import (
	"fmt"
	"sync/atomic"

	"oakbarrel/core/record"
)

// Matched is how many records a rule has acted on.
type Matched struct {
	Rule    string `json:"rule"` // "" for otherwise
	Records int64  `json:"records"`
}

// tally counts the records that each rule acts on. The rules that match all records of a
// plain priority are counted together, as a group, so that such a record is counted once.
type tally struct {
	names   []string        // of the rules, each once, and "" at the end for otherwise
	counts  []*atomic.Int64 // of each name
	countOf []int32         // of each rule, and of otherwise behind them
	groups  [][]int32       // the rules of each group
	groupOf [record.Priorities]int32
	known   map[string]int32 // groups by their rules, while the table is made
}

func newTally(rules []Rule) tally {
	t := tally{known: map[string]int32{}}
	at := map[string]int32{}
	for i := range rules {
		name := rules[i].Name
		if _, known := at[name]; !known {
			at[name] = t.named(name)
		}
		t.countOf = append(t.countOf, at[name])
	}
	t.countOf = append(t.countOf, t.named(""))
	return t
}

func (t *tally) named(name string) int32 {
	t.names, t.counts = append(t.names, name), append(t.counts, new(atomic.Int64))
	return int32(len(t.names) - 1)
}

// settle says which rules surely match a priority. Groups are numbered behind the rules.
func (t *tally) settle(p record.Priority, rules []int32) {
	key := fmt.Sprint(rules)
	number, known := t.known[key]
	if !known {
		number = int32(t.size())
		t.groups = append(t.groups, rules)
		t.known[key] = number
	}
	t.groupOf[p] = number
}

func (t *tally) size() int { return len(t.countOf) + len(t.groups) }

func (t *tally) add(rule int32, n int64) { t.counts[t.countOf[rule]].Add(n) }

// Count counts the records of the batch that m was filled for, once.
func (t *Table) Count(m *Routing) {
	own := len(t.tally.countOf)
	for _, i := range m.hits.which {
		n := int64(m.hits.counts[i])
		if int(i) < own {
			t.tally.add(i, n)
			continue
		}
		for _, rule := range t.tally.groups[int(i)-own] {
			t.tally.add(rule, n)
		}
	}
	m.hits.clear()
}

// CountOn has rules go on with the counts of those of the same names in the table before.
func (t *Table) CountOn(before *Table) {
	old := map[string]*atomic.Int64{}
	left, last := len(before.tally.names)-1, len(t.tally.names)-1 // to otherwise
	for i, name := range before.tally.names[:left] {
		old[name] = before.tally.counts[i]
	}
	for i, name := range t.tally.names[:last] {
		if count := old[name]; count != nil {
			t.tally.counts[i] = count
		}
	}
	t.tally.counts[last] = before.tally.counts[left]
}

// Matched tells how many records each rule has acted on, in the order of the rules, each
// name once, and at the end how many were left to otherwise.
func (t *Table) Matched() (all []Matched) {
	for i, name := range t.tally.names {
		all = append(all, Matched{name, t.tally.counts[i].Load()})
	}
	return all
}

// hits counts what the records of one batch meet: rules, otherwise and groups.
type hits struct {
	counts []uint32
	which  []int32 // that are not zero
}

func (h *hits) reset(size int) {
	h.clear()
	if cap(h.counts) < size {
		h.counts = make([]uint32, size)
	}
	h.counts = h.counts[:size]
}

func (h *hits) clear() {
	for _, i := range h.which {
		h.counts[i] = 0
	}
	h.which = h.which[:0]
}

func (h *hits) add(i int32) {
	if h.counts[i] == 0 {
		h.which = append(h.which, i)
	}
	h.counts[i]++
}
