package block

import (
	"slices"
	"strings"

	"oakbarrel/core/record"
)

// Values of fields that have few of them are counted by who said them, so that they are told
// without looking at records: by groups of kinds that are of one host, app and severity.

const (
	mostFields    = 512  // of a block
	mostValues    = 256  // of a field
	mostValueSize = 256  // bytes of a value
	mostApart     = 512  // of a block; values of one with more are counted over all its records
	mostCounts    = 4096 // of a field, by group; one with more likewise
)

// Values is what values the records of a block have.
type Values struct{ Fields, MsgID, Intake *Field }

// Field is what values records have under a name, in their fields or in those of another field.
type Field struct {
	Name   []byte // empty for that which holds all
	Told   Told
	Counts []Count // by value, then group; of records that have one
	Below  []*Field

	groups int // of the block
	seen   int // the record that was looked at last, from 1
	next   int // the place below of the field that followed the one that was named last, most often
	places map[string]int
	values []string  // by their places
	counts [][]int32 // by value and group
}

// Told is how much is told of the values of a field.
type Told uint8

// The values of a field are told by group; over all records; or not, as some are lists or
// objects, or long, or they are too many.
const (
	ByGroup Told = iota
	OverAll
	Untold
	howTold // that many
)

// Valid tells whether there is such a thing.
func (t Told) Valid() bool { return t < howTold }

// Count is how many records of a group have a value: the text of a string, JSON of others.
type Count struct {
	Value string
	Group int // 0 where they are counted over all records
	Count int
}

// Grouper tells which kinds are of one host, app and severity. The zero Grouper is ready.
type Grouper struct{ places map[groupOf]int }

type groupOf struct {
	host, app       string
	hasHost, hasApp bool
	severity        record.Severity
}

// Place returns the place of the group of a kind, in the order in which they come.
func (g *Grouper) Place(host, app []byte, priority record.Priority) int {
	if g.places == nil {
		g.places = map[groupOf]int{}
	}
	of := groupOf{string(host), string(app), host != nil, app != nil, priority.Severity()}
	at, known := g.places[of]
	if !known {
		at = len(g.places)
		g.places[of] = at
	}
	return at
}

// Len returns how many groups there are.
func (g *Grouper) Len() int { return len(g.places) }

// Values counts what values the records have, by group of kinds, of which there are at most
// most, with facilities told apart or not, as in Kinds. It is nil where there are more kinds,
// or many fields. An error is as one of Each.
func (b *Block) Values(most int, facilities bool) (*Values, error) {
	of := make([]uint32, 0, b.header.Records) // the kind of each record
	kinds, err := b.kinds(most, facilities, func(kind int) { of = append(of, uint32(kind)) })
	if err != nil || kinds == nil {
		return nil, err
	}
	var grouper Grouper
	groups := make([]int, len(kinds)) // by kind
	for i, k := range kinds {
		groups[i] = grouper.Place(k.Host, k.App, k.Priority)
	}
	c := valueCounter{groups: grouper.Len()}
	if c.groups > mostApart {
		c.groups = 1
		clear(groups)
	}
	v := &Values{c.field(nil), c.field(nil), c.field(nil)}
	err = b.Each(func(_ uint64, r *record.Record) bool {
		c.group = groups[of[c.at]]
		c.at++
		v.MsgID.add(r.MsgID, c.group)
		c.room = append(c.room[:0], r.Intake...)
		v.Intake.add(c.room, c.group)
		if r.HasFields() {
			c.addAll(v.Fields, r.Fields().Root())
		}
		return c.fields <= mostFields
	})
	if err != nil || c.fields > mostFields {
		return nil, err
	}
	for _, f := range []*Field{v.Fields, v.MsgID, v.Intake} {
		f.finish(c.groups == grouper.Len())
	}
	return v, nil
}

// valueCounter is at a record.
type valueCounter struct {
	at     int // its place, from 1
	group  int
	groups int
	fields int // how many there are
	room   []byte
}

func (c *valueCounter) field(name []byte) *Field {
	c.fields++
	return &Field{Name: slices.Clone(name), groups: c.groups}
}

// addAll adds the fields of an object.
func (c *valueCounter) addAll(f *Field, object record.Value) {
	for v := object.First(); v.More(); v = v.Next() {
		below := c.named(f, v.Key())
		if below.seen == c.at {
			continue // the first of a name counts
		}
		below.seen = c.at
		switch v.Kind() {
		case record.Null:
		case record.Object:
			below.untell()
			c.addAll(below, v)
		case record.List:
			below.untell()
		case record.String:
			below.add(v.Text(), c.group)
		default:
			c.room = v.AppendJSON(c.room[:0])
			below.add(c.room, c.group)
		}
	}
}

// named returns the field of a name below another one.
func (c *valueCounter) named(f *Field, name []byte) *Field {
	for i := range f.Below {
		at := (f.next + i) % len(f.Below)
		if below := f.Below[at]; string(below.Name) == string(name) {
			f.next = at + 1
			return below
		}
	}
	below := c.field(name)
	f.Below = append(f.Below, below)
	f.next = len(f.Below)
	return below
}

// add adds a value, unless it is empty, which is as one that is missing.
func (f *Field) add(value []byte, group int) {
	if f.Told == Untold || len(value) == 0 {
		return
	}
	at, known := f.places[string(value)]
	if !known {
		if len(f.values) == mostValues || len(value) > mostValueSize {
			f.untell()
			return
		}
		if f.places == nil {
			f.places = map[string]int{}
		}
		at = len(f.values)
		text := string(value)
		f.places[text] = at
		f.values, f.counts = append(f.values, text), append(f.counts, make([]int32, f.groups))
	}
	f.counts[at][group]++
}

func (f *Field) untell() { f.Told, f.places, f.values, f.counts = Untold, nil, nil, nil }

// finish puts in order what was counted, by group or not.
func (f *Field) finish(byGroup bool) {
	if f.Told != Untold {
		f.inOrder(byGroup)
	}
	if len(f.Counts) > mostCounts {
		f.inOrder(false)
	}
	f.places, f.values, f.counts = nil, nil, nil
	for _, below := range f.Below {
		below.finish(byGroup)
	}
}

func (f *Field) inOrder(byGroup bool) {
	f.Counts, f.Told = nil, OverAll
	if byGroup {
		f.Told = ByGroup
	}
	for at, counts := range f.counts {
		all := 0
		for group, n := range counts {
			if all += int(n); byGroup && n > 0 {
				f.Counts = append(f.Counts, Count{f.values[at], group, int(n)})
			}
		}
		if !byGroup {
			f.Counts = append(f.Counts, Count{f.values[at], 0, all})
		}
	}
	slices.SortStableFunc(f.Counts, func(a, b Count) int { return strings.Compare(a.Value, b.Value) })
}
