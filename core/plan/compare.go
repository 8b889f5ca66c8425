package plan

import (
	"slices"
	"strings"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

// Comparison tells what another plan would do with recorded traffic. The zero
// Comparison is not ready: see Compare.
type Comparison struct {
	Records, Same, Moved, Lost, New int // Lost are kept no longer, New only now
	Outlets                         []OutletChange
	Changes                         []*WayChange // the most frequent first, once Finish is called
	First, Last                     time.Time    // of the records

	old, new *Plan
	routing  [2]route.Routing
	byKey    map[string]*WayChange
	line     []byte
}

// OutletChange is what an outlet gets from each plan. Bytes are those of the
// lines that a file writes; a store counts lines of RFC 5424.
type OutletChange struct {
	Name     string
	Records  [2]int64
	Bytes    [2]int64
	Missing  [2]bool // the plan has no such outlet
	numbered [2]int
}

// WayChange is a change of ways that many records share.
type WayChange struct {
	From, To [2][]string // outlets, and the rules that matched, of the old and the new plan
	Records  int
	Examples []string // as JSON
}

// maxExamples bounds the examples of a change.
const maxExamples = 3

// Compare returns a comparison that has seen nothing yet.
func Compare(old, new *Plan) *Comparison {
	c := &Comparison{old: old, new: new, byKey: map[string]*WayChange{}}
	for side, p := range []*Plan{old, new} {
		for i, o := range p.Outlets {
			at := slices.IndexFunc(c.Outlets, func(known OutletChange) bool { return known.Name == o.Name })
			if at < 0 {
				at = len(c.Outlets)
				c.Outlets = append(c.Outlets, OutletChange{Name: o.Name, Missing: [2]bool{true, true}})
			}
			c.Outlets[at].numbered[side], c.Outlets[at].Missing[side] = i, false
		}
	}
	return c
}

// Asks returns what the rules of both plans ask of a record.
func (c *Comparison) Asks() []string {
	asked := append(c.old.Table.Asks(), c.new.Table.Asks()...)
	slices.Sort(asked)
	return slices.Compact(asked)
}

// Add judges a record by both plans. It keeps nothing of r.
func (c *Comparison) Add(r *record.Record) {
	c.Records++
	at := r.Time.Time()
	if c.First.IsZero() || at.Before(c.First) {
		c.First = at
	}
	if at.After(c.Last) {
		c.Last = at
	}
	var goes [2][]string
	for side, p := range []*Plan{c.old, c.new} {
		b := record.Batch{Records: []record.Record{*r}}
		b.Records[0].SetData(r.Data)
		p.Table.Route(&b, &c.routing[side])
		goes[side] = c.count(side, p, &b.Records[0])
	}
	switch {
	case slices.Equal(goes[0], goes[1]):
		c.Same++
		return
	case len(goes[1]) == 0:
		c.Lost++
	case len(goes[0]) == 0:
		c.New++
	default:
		c.Moved++
	}
	c.addExample(r, goes)
}

// count counts what the outlets of one plan get of a record, and returns their names.
func (c *Comparison) count(side int, p *Plan, r *record.Record) (names []string) {
	for i := range c.Outlets {
		o := &c.Outlets[i]
		if o.Missing[side] || !c.routing[side].Has(0, o.numbered[side]) {
			continue
		}
		names = append(names, o.Name)
		o.Records[side]++
		if f := p.Outlets[o.numbered[side]].Format; f != nil {
			c.line = f.AppendLine(c.line[:0], r)
		} else {
			c.line = append(wire.AppendRFC5424Line(c.line[:0], r), '\n')
		}
		o.Bytes[side] += int64(len(c.line))
	}
	return names
}

// addExample adds a record to the change that it is an example of.
func (c *Comparison) addExample(r *record.Record, goes [2][]string) {
	var rules [2][]string
	for side, p := range []*Plan{c.old, c.new} {
		judged := *r
		judged.SetData(r.Data)
		for _, j := range p.Table.Explain(&judged).Rules {
			if j.Matched && j.Reached {
				rules[side] = append(rules[side], j.Name)
			}
		}
	}
	key := strings.Join([]string{strings.Join(goes[0], "\x00"), strings.Join(goes[1], "\x00"), strings.Join(rules[0], "\x00"), strings.Join(rules[1], "\x00")}, "\x01")
	change := c.byKey[key]
	if change == nil {
		change = &WayChange{From: [2][]string{goes[0], rules[0]}, To: [2][]string{goes[1], rules[1]}}
		c.byKey[key] = change
		c.Changes = append(c.Changes, change)
	}
	change.Records++
	if len(change.Examples) < maxExamples {
		change.Examples = append(change.Examples, string(r.AppendJSON(nil)))
	}
}

// Finish puts the changes in order: what is kept no longer first, then the most frequent.
func (c *Comparison) Finish() {
	slices.SortStableFunc(c.Changes, func(a, b *WayChange) int {
		if lostA, lostB := len(a.To[0]) == 0, len(b.To[0]) == 0; lostA != lostB {
			if lostA {
				return -1
			}
			return 1
		}
		return b.Records - a.Records
	})
}

// ADay scales a number of bytes of the sample to a day; ok is false for a sample that spans less than a minute.
func (c *Comparison) ADay(bytes int64) (perDay int64, ok bool) {
	span := c.Last.Sub(c.First)
	if span < time.Minute {
		return 0, false
	}
	return int64(float64(bytes) * float64(24*time.Hour) / float64(span)), true
}
