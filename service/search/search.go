// Package search finds records in the store. Of the blocks whose spans and severities
// can hold an answer it asks the filters for the words that are looked for, and opens
// only those blocks that are left, on all cores, until it has as many records as are
// wanted.
//
// A [Store] may be used by several goroutines at a time. It remembers what it has
// unpacked last, within a bound. Begin with [Store.Search].
package search

import (
	"cmp"
	"context"
	"math"
	"runtime"
	"slices"
	"sync"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// Store finds records on the shelves of a store. It may be used by several goroutines at a time.
type Store struct {
	shelves *shelf.Set
	blocks  recent // unpacked: who pages through records comes again

	mostWaiting int // of a search, 0 for the usual
	firstWindow int // likewise

	// Busy tells whether those who write have to wait; long searches take a tenth of a
	// core then. It is nil where nobody writes, and set before the first search.
	Busy func() bool

	patient chan struct{} // has room for as many as open blocks of long searches at a time
}

// New returns a Store on shelves. Its blocks in memory are up to 64 MiB.
func New(shelves *shelf.Set) *Store {
	return &Store{shelves: shelves, blocks: recent{half: 32 << 20}, patient: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2))}
}

// Hit is a record that was found, as JSON.
type Hit struct {
	Place Place
	JSON  []byte

	run int // of its block
}

// Search calls each with the records that meet the query, in order, until it
// has called Limit times, or each returns an error, which it returns.
func (s *Store) Search(ctx context.Context, q Query, each func(Hit) error) error {
	q.Damaged = once(q.Damaged)
	if q.Condition == nil { // the first blocks have all that is wanted, mostly
		q.window = cmp.Or(s.firstWindow, firstWindow)
	}
	for {
		rest, err := s.pass(ctx, &q, each)
		if err != nil || !rest || q.Limit == 0 {
			return err
		}
	}
}

// pass is Search up to where it has looked at as many blocks of each shelf as are in the
// window of the query, or holds as much as it may of records that overlap in time. It takes
// what it found off the query, and tells whether there is more.
func (s *Store) pass(ctx context.Context, q *Query, each func(Hit) error) (rest bool, err error) {
	part := *q
	heads, err := s.heads(ctx, &part)
	if err != nil {
		return false, err
	}
	waiting := waiting{q: &part, most: cmp.Or(s.mostWaiting, mostWaiting)}
	err = eachBlock(ctx, s, &part, heads, part.hits, func(hits []Hit, next *head) (bool, error) {
		waiting.add(hits)
		for q.Limit > 0 {
			hit, some := waiting.next(next)
			if !some {
				break
			}
			if err := each(hit); err != nil {
				return false, err
			}
			q.Limit--
		}
		return q.Limit > 0 && !waiting.last(next), nil
	})
	if waiting.cut != nil {
		q.After = waiting.cut
		return true, err
	}
	return q.goOn(&part, len(heads)), err
}

// once lets each block be told once only. It may be nil.
func once(damaged func(uint64, error)) func(uint64, error) {
	if damaged == nil {
		return nil
	}
	var known sync.Map
	return func(block uint64, err error) {
		if _, again := known.LoadOrStore(block, true); !again {
			damaged(block, err)
		}
	}
}

// hits returns the records of a block that meet the query, no more than its
// limit, in order. What cannot come before those is not read, and only those
// that are wanted are written as JSON.
func (q *Query) hits(h head, b *block.Block) ([]Hit, error) {
	runs, first, err := q.runs(b)
	if err == nil && len(runs) > 0 {
		err = b.ReadyFrom(first)
	}
	if err != nil {
		return nil, err
	}
	var hits []Hit
	for _, run := range runs {
		if len(hits) == q.Limit && q.before(hits[len(hits)-1].Place.Time, run.bound) {
			break
		}
		if err := b.ReadyFrom(run.at); err != nil { // more than first foresaw
			return nil, err
		}
		b.EachIn(run.at, q.asksNames(), func(number uint64, r *record.Record) bool {
			if place, ok := q.meets(h, number, r); ok {
				hits = append(hits, Hit{Place: place, run: run.at})
			}
			return true
		})
		if len(hits) >= q.Limit {
			q.sort(hits)
			hits = hits[:q.Limit]
		}
	}
	q.sort(hits)
	writeJSON(hits, b, h)
	return hits, nil
}

func (q *Query) sort(hits []Hit) {
	slices.SortFunc(hits, func(a, b Hit) int { return q.order(a.Place, b.Place) })
}

const usualJSON = 400 // bytes of a record

// writeJSON reads the records of hits in a block once more. Where they may be in
// another block too, each says so.
func writeJSON(hits []Hit, b *block.Block, h head) {
	wanted := map[int]map[uint64]*Hit{} // by run and number
	for i := range hits {
		h := &hits[i]
		if wanted[h.run] == nil {
			wanted[h.run] = map[uint64]*Hit{}
		}
		wanted[h.run][h.Place.Number] = h
	}
	all := make([]byte, 0, len(hits)*usualJSON)
	for run, left := range wanted {
		b.EachIn(run, true, func(number uint64, r *record.Record) bool {
			if hit := left[number]; hit != nil {
				start := len(all)
				r.Agent = h.agent.name()
				all = r.AppendJSON(all)
				if h.Twice {
					all = append(all[:len(all)-1], `,"maybe_twice":true}`...)
				}
				hit.JSON = all[start:len(all):len(all)]
				delete(left, number)
			}
			return len(left) > 0
		})
	}
}

// Position is up to which block each shelf was followed. A shelf that is not in it is new.
type Position map[uint32]uint64

// notKnown stands for a shelf that was away when it was to be followed.
const notKnown = math.MaxUint64

// Now returns the position behind all that is there. A shelf that is away is followed from
// where it is once it is back.
func (s *Store) Now(ctx context.Context) (Position, error) {
	at := Position{}
	for _, of := range s.shelves.All() {
		if err := s.reach(ctx, of, at); err != nil {
			return nil, err
		}
	}
	return at, nil
}

// reach notes up to which block a shelf has come.
func (s *Store) reach(ctx context.Context, of *shelf.Shelf, at Position) error {
	at[of.ID] = notKnown
	db, err := of.DB(ctx)
	if err != nil {
		return nil
	}
	var last uint64
	if err := db.Model(&model.Block{}).Select("COALESCE(MAX(id), 0)").Scan(&last).Error; err != nil {
		return s.lacks(ctx, of, nil, err)
	}
	at[of.ID] = last
	return nil
}

// Since calls each with the records that meet the query in blocks that came after a
// position, of each shelf in the order of their coming, and moves the position on.
func (s *Store) Since(ctx context.Context, q Query, at Position, each func(Hit) error) error {
	for _, of := range s.shelves.All() {
		if at[of.ID] == notKnown {
			if err := s.reach(ctx, of, at); err != nil {
				return err
			}
		} else if err := s.sinceOn(ctx, of, q, at, each); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) sinceOn(ctx context.Context, of *shelf.Shelf, q Query, at Position, each func(Hit) error) error {
	q.Missing = nil // nothing is passed over
	db, err := of.DB(ctx)
	if err != nil {
		return nil // it goes on from here once it is back
	}
	heads, err := readHeads(db.Where("cask_id IN ? AND id > ? AND records > 0 AND merged = 0", q.Casks, at[of.ID]).Order("id"))
	if err != nil {
		return s.lacks(ctx, of, nil, err)
	}
	if len(heads) == 0 {
		return nil
	}
	newest := heads[len(heads)-1].ID
	for i := range heads {
		heads[i].shelf = of.ID
	}
	if heads, err = q.nameAgents(ctx, s.shelves.First(ctx), heads); err != nil {
		return err
	}
	for _, h := range heads {
		hits, err := open(ctx, s, &q, h, q.hits)
		if err != nil {
			return s.lacks(ctx, of, nil, err)
		}
		for _, hit := range hits {
			if err := each(hit); err != nil {
				return err
			}
		}
		at[of.ID] = h.ID
	}
	at[of.ID] = newest
	return nil
}
