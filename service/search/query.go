package search

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"math"
	"slices"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
)

// Query says which records are wanted. Times are microseconds since 1970.
type Query struct {
	Casks        []uint64
	Since, Until int64 // Since is included, Until is not; 0 for no end
	Condition    *condition.Condition
	Limit        int // of a search, 1 or more
	OldestFirst  bool
	After        *Place // go on behind this record
	// Damaged is told of blocks that cannot be read, by several goroutines at a
	// time; the search goes on without them. Where it is nil they end the search.
	Damaged func(block uint64, err error)
	// Missing is told of shelves that are away, by several goroutines at a time; the search
	// goes on without them. Where it is nil they end the search.
	Missing func(shelf string)
	// Progress is told, by one goroutine, how many of the blocks that may have a
	// hit are looked at. It may be nil.
	Progress func(done, all int)

	window   int  // how many blocks of each shelf are looked at, 0 for all
	narrowed bool // there are others, and the span ends before them

	byFacility bool // what is counted asks for facilities
	byValue    bool // or for values that stand beside blocks
}

// Place is where a record stands in the order of a search: by time, then by
// feed and number.
type Place struct {
	Time   int64  `json:"t"` // microseconds since 1970, as blocks are picked by them
	Nsec   int32  `json:"n"` // nanoseconds beside them
	Feed   uint64 `json:"f"`
	Number uint64 `json:"i"`
}

// String returns the place as an opaque text.
func (p Place) String() string {
	b, err := json.Marshal(p)
	if err != nil {
		panic(err) // numbers always can be written
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

// ParsePlace reads what String gave.
func ParsePlace(s string) (*Place, error) {
	var p Place
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err == nil {
		err = json.Unmarshal(b, &p)
	}
	if err != nil {
		return nil, errors.New("this is not a place that a search has given")
	}
	return &p, nil
}

func (p Place) compare(q Place) int {
	return cmp.Or(cmp.Compare(p.Time, q.Time), cmp.Compare(p.Nsec, q.Nsec), cmp.Compare(p.Feed, q.Feed), cmp.Compare(p.Number, q.Number))
}

// order compares places as the query wants them.
func (q *Query) order(a, b Place) int {
	if q.OldestFirst {
		return a.compare(b)
	}
	return b.compare(a)
}

// bound returns the time with which a block's records begin, in the order of the query.
func (q *Query) bound(h head) int64 {
	if q.OldestFirst {
		return h.FirstTime
	}
	return h.LastTime
}

// end returns the time with which a block's records end, in the order of the query.
func (q *Query) end(h head) int64 {
	if q.OldestFirst {
		return h.LastTime
	}
	return h.FirstTime
}

// wholly tells whether the query's span has all records of a block.
func (q *Query) wholly(h head) bool {
	since, until := q.span()
	return h.FirstTime >= since && h.LastTime < until && (q.After == nil || h.FirstTime > q.After.Time || h.LastTime < q.After.Time)
}

// before tells whether a time surely comes before a bound.
func (q *Query) before(t, bound int64) bool {
	if q.OldestFirst {
		return t < bound
	}
	return t > bound
}

// span returns the range of times, narrowed by the place to go on from.
func (q *Query) span() (since, until int64) {
	since, until = q.Since, q.Until
	if since == 0 {
		since = math.MinInt64
	}
	if until == 0 {
		until = math.MaxInt64
	}
	if q.After != nil && q.OldestFirst {
		since = max(since, q.After.Time)
	} else if q.After != nil {
		until = min(until, q.After.Time+1)
	}
	return since, until
}

// sets returns the severities and facilities that can meet the condition.
func (q *Query) sets() (severities uint8, facilities uint32) {
	for p := range record.Priority(record.Priorities) {
		if q.Condition == nil || q.Condition.On(p) != condition.Never {
			severities |= 1 << p.Severity()
			facilities |= 1 << p.Facility()
		}
	}
	return severities, facilities
}

// meets tells whether a record is wanted, and where it stands. The block that
// was opened may hold others than the one that was picked, with which it was merged.
func (q *Query) meets(h head, number uint64, r *record.Record) (Place, bool) {
	place := Place{ingest.Micros(r.Time), r.Time.Nsec % 1000, h.FeedID, number}
	switch {
	case number < h.FirstNumber || number > h.LastNumber:
		return place, false
	case q.Since != 0 && place.Time < q.Since, q.Until != 0 && place.Time >= q.Until:
		return place, false
	case q.After != nil && q.order(place, *q.After) <= 0:
		return place, false
	}
	r.Agent = h.agent.name()
	return place, q.Condition == nil || q.Condition.Match(r)
}

// run is a part of a block that can be read by itself.
type run struct {
	at      int
	records int
	bound   int64 // the time with which its records begin, in the order of the query
}

// runs returns the parts of a block that have records of the query's span, in
// its order, and the first part of the block that surely has to be read.
func (q *Query) runs(b *block.Block) (runs []run, first int, err error) {
	all, err := b.Runs()
	if err != nil {
		return nil, 0, err
	}
	since, until := q.span()
	for i, r := range all {
		from, to := ingest.Micros(r.First), ingest.Micros(r.Last)
		if to >= since && from < until {
			runs = append(runs, run{i, r.Records, q.bound(head{FirstTime: from, LastTime: to})})
		}
	}
	slices.SortStableFunc(runs, func(a, b run) int {
		if q.OldestFirst {
			return cmp.Compare(a.bound, b.bound)
		}
		return cmp.Compare(b.bound, a.bound)
	})
	first = len(all)
	for i, records := 0, 0; i < len(runs) && (q.Condition != nil || q.Limit == 0 || records < q.Limit); i++ {
		first = min(first, runs[i].at)
		records += runs[i].records
	}
	return runs, first, nil
}

func (q *Query) asksNames() bool { return q.Condition != nil && q.Condition.AsksNames() }

// each calls f with the records of a block that meet the query, in no order;
// with names or, where the query does not ask for them, without.
func (q *Query) each(h head, b *block.Block, names bool, f func(place Place, r *record.Record)) error {
	runs, first, err := q.runs(b)
	if err == nil && len(runs) > 0 {
		err = b.ReadyFrom(first)
	}
	if err != nil {
		return err
	}
	for _, run := range runs {
		b.EachIn(run.at, names || q.asksNames(), func(number uint64, r *record.Record) bool {
			if place, ok := q.meets(h, number, r); ok {
				f(place, r)
			}
			return true
		})
	}
	return nil
}
