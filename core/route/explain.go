package route

import (
	"oakbarrel/core/record"
)

// Judgement is what one rule says of a record.
type Judgement struct {
	Name    string
	Matched bool
	Reached bool     // the walk came to the rule
	Because string   // the part of the condition that decided
	Changes []string // what the rule changes of the record, for people
}

// Way is where a record goes, and why.
type Way struct {
	Rules     []Judgement // every rule, also those after the end of the walk
	DroppedBy int         // the rule that dropped the record, -1 for none
	Otherwise bool        // no rule dropped it, or sent it to an outlet that keeps it, so otherwise acts
	Outlets   []int       // where it goes, ascending; empty for nowhere
}

// Explain judges r by every rule, and changes it as the rules do.
func (t *Table) Explain(r *record.Record) Way {
	way := Way{DroppedBy: -1}
	row := make([]uint64, (t.outlets+63)/64)
	reached, sent, labelled := true, false, false
	for i := range t.rules {
		rule := &t.rules[i]
		matched, because := rule.When.Explain(r)
		way.Rules = append(way.Rules, Judgement{Name: rule.Name, Matched: matched, Reached: reached, Because: because})
		if !matched || !reached {
			continue
		}
		if t.changes[i] {
			before := *r
			_, labelled = rule.Change.apply(r, nil, labelled, new(Routing))
			way.Rules[i].Changes = rule.Change.changes(&before, r)
		}
		add(row, t.masks[i])
		sent = sent || t.sends[i]
		if rule.Drop {
			way.DroppedBy = i
		}
		reached = !rule.ends()
	}
	if way.Otherwise = !sent && way.DroppedBy < 0; way.Otherwise {
		add(row, t.masks[len(t.rules)])
	}
	for o := range t.outlets {
		if row[o/64]>>(o%64)&1 == 1 {
			way.Outlets = append(way.Outlets, o)
		}
	}
	return way
}
