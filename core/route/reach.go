package route

import (
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

// Reach tells where records of one priority can go, as far as the rules show
// without the rest of the record.
type Reach struct {
	Surely  []int             // outlets that every one goes to, ascending
	Maybe   []int             // outlets that some may go to
	Nowhere condition.Verdict // whether one may go to no outlet at all
}

// reach is a Reach under way: sets of outlets, with one bit more for nowhere.
type reach struct{ must, may []uint64 }

// Matrix returns for each priority where its records can go. It takes each
// test on more than the priority as one that may hold or not, whatever the
// others say.
func (t *Table) Matrix() (all [record.Priorities]Reach) {
	// states[p][sent] is where a record of priority p goes on from the rule
	// behind; the walk is followed from its end.
	var states [record.Priorities][2]reach
	for p := range states {
		states[p] = [2]reach{t.only(t.otherwise.Send, t.otherwise.Drop), t.only(nil, false)}
	}
	for i := len(t.rules) - 1; i >= 0; i-- {
		rule, next := &t.rules[i], states
		for p := range states {
			v := rule.When.On(record.Priority(p))
			for sent := range 2 {
				if v != condition.Never {
					matched := t.matched(i, record.Priority(p), sent, &next)
					if rule.Limit != nil {
						matched = either(matched, t.only(nil, sent == 0))
					}
					if v == condition.Maybe {
						matched = either(matched, next[p][sent])
					}
					states[p][sent] = matched
				}
			}
		}
	}
	for p := range all {
		all[p] = t.reachOf(states[p][0])
	}
	return all
}

// Verdicts returns what the condition of a rule says of each priority.
func (t *Table) Verdicts(rule int) (all [record.Priorities]condition.Verdict) {
	for p := range all {
		all[p] = t.rules[rule].When.On(record.Priority(p))
	}
	return all
}

// only is where the walk ends: at outlets, or nowhere.
func (t *Table) only(outlets []int, nowhere bool) reach {
	m := mask(outlets, t.outlets+1)
	if nowhere {
		m[t.outlets/64] |= 1 << (t.outlets % 64)
	}
	return reach{m, m}
}

// matched is where a record goes that meets the condition of a rule.
func (t *Table) matched(i int, p record.Priority, sent int, next *[record.Priorities][2]reach) reach {
	rule := &t.rules[i]
	if rule.Drop {
		return t.only(nil, sent == 0)
	}
	if t.sends[i] {
		sent = 1
	}
	here, rest := t.only(rule.Send, false), t.only(nil, false)
	switch {
	case !rule.Done:
		rest = next[rule.Change.priority(p)][sent]
	case sent == 0:
		rest = t.only(t.otherwise.Send, t.otherwise.Drop)
	}
	return reach{union(here.must, rest.must), union(here.may, rest.may)}
}

// priority returns the priority that a record has after the change.
func (c *Change) priority(p record.Priority) record.Priority {
	if c.Severity != nil {
		p = record.MakePriority(p.Facility(), *c.Severity)
	}
	if c.Facility != nil {
		p = record.MakePriority(*c.Facility, p.Severity())
	}
	return p
}

func union(a, b []uint64) []uint64 {
	c := make([]uint64, len(a))
	for i := range a {
		c[i] = a[i] | b[i]
	}
	return c
}

// either is where a record goes that may take one way or the other.
func either(a, b reach) reach {
	must := make([]uint64, len(a.must))
	for i := range must {
		must[i] = a.must[i] & b.must[i]
	}
	return reach{must, union(a.may, b.may)}
}

func (t *Table) reachOf(r reach) (reach Reach) {
	has := func(set []uint64, o int) bool { return set[o/64]>>(o%64)&1 == 1 }
	for o := range t.outlets {
		switch {
		case has(r.must, o):
			reach.Surely = append(reach.Surely, o)
		case has(r.may, o):
			reach.Maybe = append(reach.Maybe, o)
		}
	}
	switch {
	case has(r.must, t.outlets):
		reach.Nowhere = condition.Always
	case has(r.may, t.outlets):
		reach.Nowhere = condition.Maybe
	}
	return reach
}
