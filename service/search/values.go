package search

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
)

// mostValues bounds how many different values are counted apart; records with
// others are counted together.
const mostValues = 100_000

// Missing is the key of the records that have no value.
const Missing = "(missing)"

// By is what records are counted by: a property, or a field by its path.
type By struct {
	name string
	path condition.Path // of a field
	of   func(dst []byte, r *record.Record) []byte
}

// Append appends the value that a record has, nothing where it has none.
func (b *By) Append(dst []byte, r *record.Record) []byte { return b.of(dst, r) }

// ValueOf returns what the records are counted by.
func ValueOf(by, path string) (*By, error) {
	property := func(of func(r *record.Record) []byte) (*By, error) {
		return &By{name: by, of: func(dst []byte, r *record.Record) []byte { return append(dst, of(r)...) }}, nil
	}
	switch by {
	case "host":
		return property(func(r *record.Record) []byte { return r.Host })
	case "agent":
		return property(func(r *record.Record) []byte { return r.Agent })
	case "app":
		return property(func(r *record.Record) []byte { return r.App })
	case "msgid":
		return property(func(r *record.Record) []byte { return r.MsgID })
	case "facility":
		return &By{name: by, of: func(dst []byte, r *record.Record) []byte { return append(dst, r.Facility().String()...) }}, nil
	case "intake":
		return &By{name: by, of: func(dst []byte, r *record.Record) []byte { return append(dst, r.Intake...) }}, nil
	}
	field := condition.UnitPath
	if by != "unit" {
		var err error
		if field, err = condition.ParsePath(path); err != nil {
			return nil, err
		}
	}
	return &By{name: by, path: field, of: func(dst []byte, r *record.Record) []byte {
		switch v := field.Find(r); {
		case !v.Exists():
			return dst
		case v.Kind() == record.String:
			return append(dst, v.Text()...)
		default:
			return v.AppendJSON(dst)
		}
	}}, nil
}

// countTold counts by what stands beside a block, and tells whether it could.
func (b *By) countTold(told toldBlock, add func(key []byte, n int64)) bool {
	if slices.Contains(ToldByKinds, b.name) {
		var key []byte
		for i, k := range told.kinds {
			if told.meets[i] {
				key = b.of(key[:0], &record.Record{Host: k.Host, App: k.App, Priority: k.Priority, Agent: told.head.agent.name()})
				add(key, k.Count)
			}
		}
		return true
	}
	groups := groupsOf(told)
	counts, tells, err := ingest.OpenValues(told.values, len(groups))
	if err != nil || !tells {
		return false
	}
	field, tells := counts.Fields, true
	switch b.name {
	case "msgid":
		field = counts.MsgID
	case "intake":
		field = counts.Intake
	default:
		field, tells = fieldAt(field, b.path)
	}
	return tells && countField(groups, field, add)
}

// fieldAt finds what stands of a field, and tells whether it is sure what does: names with
// dots may lead to one field in one record, and to another in the next.
func fieldAt(f ingest.FieldCounts, path condition.Path) (at ingest.FieldCounts, sure bool) {
	for len(path) > 0 {
		var next ingest.FieldCounts
		used, many := 0, false
		err := f.Below(func(below ingest.FieldCounts) bool {
			if n := path.Fits(below.Name); n > 0 {
				next, used, many = below, n, used > 0
			}
			return !many
		})
		if err != nil || many {
			return f, false
		}
		if used == 0 {
			return f.Nothing(), true
		}
		f, path = next, path[used:]
	}
	return f, true
}

// group is what is known of the kinds of a block that are of one host, app and severity.
type group struct {
	records  int64
	in, out  bool  // some of its kinds meet the query, some do not
	valuable int64 // records that have a value
}

func groupsOf(told toldBlock) (groups []group) {
	var grouper block.Grouper
	for i, k := range told.kinds {
		at := grouper.Place(k.Host, k.App, k.Priority)
		if at == len(groups) {
			groups = append(groups, group{})
		}
		g := &groups[at]
		g.records += k.Count
		g.in, g.out = g.in || told.meets[i], g.out || !told.meets[i]
	}
	return groups
}

// countField counts the values of a field, and the records without one; it tells whether it can.
func countField(groups []group, f ingest.FieldCounts, add func(key []byte, n int64)) bool {
	in, out := false, false
	for _, g := range groups {
		in, out = in || g.in, out || g.out
	}
	switch {
	case !in:
		return true
	case f.Told == block.Untold:
		return false
	case f.Told == block.OverAll:
		if out {
			return false
		}
		all := group{in: true}
		for _, g := range groups {
			all.records += g.records
		}
		groups = []group{all}
	}
	known := true
	err := f.Each(func(_ []byte, at int, n int64) {
		if known = known && at < len(groups); known {
			groups[at].valuable += n
		}
	})
	for _, g := range groups {
		if err != nil || !known || g.valuable > g.records || g.in && g.out {
			return false
		}
	}
	f.Each(func(value []byte, at int, n int64) {
		if groups[at].in {
			add(value, n)
		}
	})
	for _, g := range groups {
		if missing := g.records - g.valuable; g.in && missing > 0 {
			add(nil, missing)
		}
	}
	return true
}

// TopValues counts the records that meet the query by their values, and returns the most frequent
// ones; others is the number of the records with any other.
func (s *Store) TopValues(ctx context.Context, q Query, by *By, most int) (total, others int64, top []Count, err error) {
	heads, err := s.heads(ctx, &q)
	if err != nil {
		return 0, 0, nil, err
	}
	all := map[string]*int64{}
	add := func(key []byte, n int64) {
		total += n
		if count, known := all[string(key)]; known {
			*count += n
		} else if len(all) < mostValues {
			all[string(key)] = &n
		} else {
			others += n
		}
	}
	q.byFacility, q.byValue = by.name == "facility", !slices.Contains(ToldByKinds, by.name)
	heads, err = s.eachTold(ctx, &q, heads, nil, func(told toldBlock) bool { return by.countTold(told, add) })
	if err != nil {
		return 0, 0, nil, err
	}
	find := func(h head, b *block.Block) (map[string]int64, error) {
		counts := map[string]int64{}
		var key []byte
		return counts, q.each(h, b, true, func(_ Place, r *record.Record) {
			key = by.of(key[:0], r)
			counts[string(key)]++
		})
	}
	err = eachBlock(ctx, s, &q, heads, find, func(counts map[string]int64, _ *head) (bool, error) {
		for key, n := range counts {
			add([]byte(key), n)
		}
		return true, nil
	})
	for key, n := range all {
		if key == "" {
			key = Missing
		}
		top = append(top, Count{key, *n})
	}
	slices.SortFunc(top, func(a, b Count) int { return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Key, b.Key)) })
	for len(top) > most {
		others += top[len(top)-1].Count
		top = top[:len(top)-1]
	}
	return total, others, top, err
}
