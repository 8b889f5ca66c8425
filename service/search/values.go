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

// ValueOf returns what the records are counted by: a property, or a field by its path.
func ValueOf(by, path string) (func(dst []byte, r *record.Record) []byte, error) {
	property := func(of func(r *record.Record) []byte) func([]byte, *record.Record) []byte {
		return func(dst []byte, r *record.Record) []byte { return append(dst, of(r)...) }
	}
	switch by {
	case "host":
		return property(func(r *record.Record) []byte { return r.Host }), nil
	case "agent":
		return property(func(r *record.Record) []byte { return r.Agent }), nil
	case "app":
		return property(func(r *record.Record) []byte { return r.App }), nil
	case "msgid":
		return property(func(r *record.Record) []byte { return r.MsgID }), nil
	case "facility":
		return func(dst []byte, r *record.Record) []byte { return append(dst, r.Facility().String()...) }, nil
	case "intake":
		return func(dst []byte, r *record.Record) []byte { return append(dst, r.Intake...) }, nil
	}
	field := condition.UnitPath
	if by != "unit" {
		var err error
		if field, err = condition.ParsePath(path); err != nil {
			return nil, err
		}
	}
	return func(dst []byte, r *record.Record) []byte {
		switch v := field.Find(r); {
		case !v.Exists():
			return dst
		case v.Kind() == record.String:
			return append(dst, v.Text()...)
		default:
			return v.AppendJSON(dst)
		}
	}, nil
}

// TopValues counts the records that meet the query by what value, which is ValueOf by, returns, and
// returns the most frequent ones; others is the number of the records with any other.
func (s *Store) TopValues(ctx context.Context, q Query, by string, value func([]byte, *record.Record) []byte, most int) (total, others int64, top []Count, err error) {
	heads, err := s.heads(ctx, &q)
	if err != nil {
		return 0, 0, nil, err
	}
	all := map[string]int64{}
	add := func(key string, n int64) {
		total += n
		if _, known := all[key]; known || len(all) < mostValues {
			all[key] += n
		} else {
			others += n
		}
	}
	if q.byFacility = by == "facility"; slices.Contains(ToldByKinds, by) {
		var key []byte
		heads, err = s.eachKind(ctx, &q, heads, nil, func(h head, k *ingest.Kind) {
			key = value(key[:0], &record.Record{Host: k.Host, App: k.App, Priority: k.Priority, Agent: h.agent.name()})
			add(string(key), k.Count)
		})
		if err != nil {
			return 0, 0, nil, err
		}
	}
	find := func(h head, b *block.Block) (map[string]int64, error) {
		counts := map[string]int64{}
		var key []byte
		return counts, q.each(h, b, true, func(_ Place, r *record.Record) {
			key = value(key[:0], r)
			counts[string(key)]++
		})
	}
	err = eachBlock(ctx, s, &q, heads, find, func(counts map[string]int64, _ *head) (bool, error) {
		for key, n := range counts {
			add(key, n)
		}
		return true, nil
	})
	for key, n := range all {
		if key == "" {
			key = Missing
		}
		top = append(top, Count{key, n})
	}
	slices.SortFunc(top, func(a, b Count) int { return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Key, b.Key)) })
	for len(top) > most {
		others += top[len(top)-1].Count
		top = top[:len(top)-1]
	}
	return total, others, top, err
}
