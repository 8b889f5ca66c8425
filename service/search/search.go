// Package search finds records in the store: it picks blocks by what is known
// of them, and opens only those.
package search

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
)

// Query says which records are wanted. Times are microseconds since 1970.
type Query struct {
	Casks        []uint64
	Since, Until int64 // Since is included, Until is not; 0 for no end
	Condition    *condition.Condition
	Limit        int
	OldestFirst  bool
	After        *Place // go on behind this record
}

// Place is where a record stands in the order of a search: by time, then by
// feed and number.
type Place struct {
	Time   int64  `json:"t"` // nanoseconds would not add: blocks are picked by microseconds
	Nsec   int32  `json:"n"`
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

// Hit is a record that was found, as JSON.
type Hit struct {
	Place Place
	JSON  []byte
}

// head is what is known of a block without opening it.
type head struct {
	ID, FeedID          uint64
	FirstTime, LastTime int64
	Severities          uint8
	Facilities          uint32
}

// Search calls each with the records that meet the query, in order, until it
// has called Limit times, or each returns an error, which it returns.
func Search(ctx context.Context, db *gorm.DB, q Query, each func(Hit) error) error {
	heads, err := q.heads(ctx, db)
	if err != nil {
		return err
	}
	var waiting []Hit // found, but something before them may still come
	found := 0
	for i, h := range heads {
		hits, err := q.open(ctx, db, h)
		if err != nil {
			return err
		}
		waiting = append(waiting, hits...)
		slices.SortFunc(waiting, func(a, b Hit) int { return q.order(a.Place, b.Place) })
		ready := len(waiting)
		if i+1 < len(heads) {
			bound := q.bound(heads[i+1])
			ready, _ = slices.BinarySearchFunc(waiting, bound, func(h Hit, bound int64) int {
				if q.before(h.Place.Time, bound) {
					return -1
				}
				return 1
			})
		}
		for _, hit := range waiting[:ready] {
			if found == q.Limit {
				return nil
			}
			if err := each(hit); err != nil {
				return err
			}
			found++
		}
		waiting = slices.Delete(waiting, 0, ready)
		if found == q.Limit {
			return nil
		}
	}
	return nil
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

// before tells whether a time surely comes before a bound.
func (q *Query) before(t, bound int64) bool {
	if q.OldestFirst {
		return t < bound
	}
	return t > bound
}

// heads returns the blocks that may hold a hit, in the order of the query.
func (q *Query) heads(ctx context.Context, db *gorm.DB) (heads []head, err error) {
	since, until := q.span()
	order := "last_time DESC, id DESC"
	if q.OldestFirst {
		order = "first_time, id"
	}
	severities, facilities := q.sets()
	err = db.WithContext(ctx).Model(&model.Block{}).Select("id, feed_id, first_time, last_time, severities, facilities").
		Where("cask_id IN ? AND records > 0 AND last_time >= ? AND first_time < ? AND severities & ? <> 0 AND facilities & ? <> 0", q.Casks, since, until, severities, facilities).
		Order(order).Find(&heads).Error
	return heads, err
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

// open returns the hits of a block.
func (q *Query) open(ctx context.Context, db *gorm.DB, h head) (hits []Hit, err error) {
	b, err := load(ctx, db, h.ID)
	if err != nil {
		return nil, err
	}
	b.Each(func(number uint64, r *record.Record) bool {
		if place, ok := q.meets(h.FeedID, number, r); ok {
			hits = append(hits, Hit{place, r.AppendJSON(nil)})
		}
		return true
	})
	return hits, nil
}

// meets tells whether a record is wanted, and where it stands.
func (q *Query) meets(feed, number uint64, r *record.Record) (Place, bool) {
	place := Place{ingest.Micros(r.Time), r.Time.Nsec % 1000, feed, number}
	switch {
	case q.Since != 0 && place.Time < q.Since, q.Until != 0 && place.Time >= q.Until:
		return place, false
	case q.After != nil && q.order(place, *q.After) <= 0:
		return place, false
	}
	return place, q.Condition == nil || q.Condition.Match(r)
}

// Count is how many records have a key.
type Count struct {
	Key   string `json:"key"`
	Count int64  `json:"count"`
}

// CountBy counts the records that meet the query by "severity" or "minute".
// Without a condition, and from minute to minute, the kept counts answer.
func CountBy(ctx context.Context, db *gorm.DB, q Query, by string) (total int64, counts []Count, err error) {
	found := map[string]int64{}
	if q.Condition == nil && q.Since%60e6 == 0 && q.Until%60e6 == 0 {
		err = q.keptCounts(ctx, db, by, found)
	} else {
		q.Limit = math.MaxInt
		err = q.countRecords(ctx, db, by, found)
	}
	for key, n := range found {
		counts = append(counts, Count{key, n})
		total += n
	}
	slices.SortFunc(counts, func(a, b Count) int {
		if by == "severity" {
			s, _ := record.ParseSeverity(a.Key)
			t, _ := record.ParseSeverity(b.Key)
			return cmp.Compare(s, t)
		}
		return cmp.Compare(a.Key, b.Key)
	})
	return total, counts, err
}

func countKey(by string, minute int64, s record.Severity) string {
	if by == "severity" {
		return s.String()
	}
	return record.Stamp{Sec: minute * 60, Form: record.Zulu}.String()
}

func (q *Query) keptCounts(ctx context.Context, db *gorm.DB, by string, found map[string]int64) error {
	since, until := q.span()
	var rows []model.Minute
	err := db.WithContext(ctx).Where("cask_id IN ? AND minute >= ? AND minute < ?", q.Casks, ceilMinute(since), ceilMinute(until)).Find(&rows).Error
	for _, m := range rows {
		found[countKey(by, m.Minute, record.Severity(m.Severity))] += m.Count
	}
	return err
}

func ceilMinute(t int64) int64 {
	if t == math.MinInt64 || t == math.MaxInt64 {
		return t / 60e6
	}
	return (t + 60e6 - 1) / 60e6
}

func (q *Query) countRecords(ctx context.Context, db *gorm.DB, by string, found map[string]int64) error {
	return q.eachMatch(ctx, db, func(t int64, s record.Severity) { found[countKey(by, floorMinute(t), s)]++ })
}

func floorMinute(t int64) int64 {
	if t < 0 {
		return -((60e6 - 1 - t) / 60e6)
	}
	return t / 60e6
}

// eachMatch opens every block that may hold a hit and calls each with the time
// and severity of all hits, in no order.
func (q *Query) eachMatch(ctx context.Context, db *gorm.DB, each func(t int64, s record.Severity)) error {
	heads, err := q.heads(ctx, db)
	if err != nil {
		return err
	}
	for _, h := range heads {
		b, err := load(ctx, db, h.ID)
		if err != nil {
			return err
		}
		b.Each(func(number uint64, r *record.Record) bool {
			if place, ok := q.meets(h.FeedID, number, r); ok {
				each(place.Time, r.Severity())
			}
			return true
		})
	}
	return nil
}

// load opens a block. One that is damaged is an error that names it.
func load(ctx context.Context, db *gorm.DB, id uint64) (*block.Block, error) {
	var row struct{ Payload []byte }
	if err := db.WithContext(ctx).Model(&model.Block{}).Select("payload").Where("id = ?", id).Take(&row).Error; err != nil {
		return nil, err
	}
	b, err := block.Decode(row.Payload)
	if err != nil {
		return nil, fmt.Errorf("block %d: %w", id, err)
	}
	return b, nil
}

// Histogram counts the records that meet the query in equal parts of its span,
// by severity. Without a condition the kept counts by minute answer, so that
// the ends of the parts are those of minutes.
func Histogram(ctx context.Context, db *gorm.DB, q Query, parts int) ([][8]int64, error) {
	counts := make([][8]int64, parts)
	add := func(t int64, s record.Severity, n int64) {
		part := int(float64(t-q.Since) / float64(q.Until-q.Since) * float64(parts))
		counts[max(0, min(part, parts-1))][s] += n
	}
	if q.Condition != nil || q.Until-q.Since < int64(parts)*60e6 {
		return counts, q.eachMatch(ctx, db, func(t int64, s record.Severity) { add(t, s, 1) })
	}
	var rows []model.Minute
	err := db.WithContext(ctx).Where("cask_id IN ? AND minute >= ? AND minute < ?", q.Casks, floorMinute(q.Since), ceilMinute(q.Until)).Find(&rows).Error
	for _, m := range rows {
		add(m.Minute*60e6, record.Severity(m.Severity), m.Count)
	}
	return counts, err
}

// Since calls each with the records that meet the query in blocks that came
// after the block *last, in the order of their coming, and moves *last on.
func Since(ctx context.Context, db *gorm.DB, q Query, last *uint64, each func(Hit) error) error {
	var heads []head
	err := db.WithContext(ctx).Model(&model.Block{}).Select("id, feed_id").Where("cask_id IN ? AND id > ? AND records > 0", q.Casks, *last).Order("id").Find(&heads).Error
	if err != nil {
		return err
	}
	for _, h := range heads {
		hits, err := q.open(ctx, db, h)
		if err != nil {
			return err
		}
		for _, hit := range hits {
			if err := each(hit); err != nil {
				return err
			}
		}
		*last = h.ID
	}
	return nil
}
