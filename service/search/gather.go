package search

import (
	"context"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
)

// Gatherer gathers something of the records that meet a query.
type Gatherer[T any] struct {
	ByKinds    bool                               // what stands beside blocks answers, where the condition asks for no more
	Facilities bool                               // but only where facilities are told apart
	OfKind     func(agent []byte, k *ingest.Kind) // is given the kinds, by one goroutine
	Empty      func() T
	OfRecord   func(T, int64, *record.Record) // adds a record, with its time in microseconds since 1970; several goroutines at a time, each with its own T
	Merge      func(T)                        // is given what each block has, by one goroutine; what the call before was given is not needed any more
}

// Gather gathers of all records that meet the query.
func Gather[T any](ctx context.Context, s *Store, q Query, g Gatherer[T]) error {
	q.byFacility = g.Facilities
	heads, err := s.heads(ctx, &q)
	if err == nil && g.ByKinds {
		heads, err = s.eachKind(ctx, &q, heads, nil, func(h head, k *ingest.Kind) { g.OfKind(h.agent.name(), k) })
	}
	if err != nil {
		return err
	}
	find := func(h head, b *block.Block) (T, error) {
		of := g.Empty()
		return of, q.each(h, b, true, func(place Place, r *record.Record) { g.OfRecord(of, place.Time, r) })
	}
	return eachBlock(ctx, s, &q, heads, find, func(of T, _ *head) (bool, error) {
		g.Merge(of)
		return true, nil
	})
}
