package search

import (
	"cmp"
	"context"
	"database/sql"
	"math"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// Count is how many records have a key.
type Count struct {
	Key   string `json:"key"`
	Count int64  `json:"count"`
}

// cell is where a record is counted.
type cell struct {
	at       int64 // its minute since 1970, its part of a span, or its facility
	severity record.Severity
}

// CountBy counts the records that meet the query by "severity", "minute" or
// "priority". Without a condition, and from minute to minute, the kept counts
// answer for the first two.
func (s *Store) CountBy(ctx context.Context, q Query, by string) (total int64, counts []Count, err error) {
	var cells map[cell]int64
	switch whole := q.Condition == nil && q.Since%60e6 == 0 && q.Until%60e6 == 0; {
	case by != "priority" && whole:
		since, until := q.span()
		cells, err = s.kept(ctx, &q, ceilMinute(since), ceilMinute(until))
	case by == "minute":
		cells, err = s.count(ctx, q, false, func(t int64, _ *record.Record) int64 { return floorMinute(t) })
	default:
		q.byFacility = by == "priority"
		cells, err = s.count(ctx, q, true, func(_ int64, r *record.Record) int64 { return int64(r.Facility()) })
	}
	found := map[string]int64{}
	for c, n := range cells {
		key := c.severity.String()
		switch by {
		case "minute":
			key = record.Stamp{Sec: c.at * 60, Form: record.Zulu}.String()
		case "priority":
			key = record.MakePriority(record.Facility(c.at), c.severity).String()
		}
		found[key] += n
		total += n
	}
	for key, n := range found {
		counts = append(counts, Count{key, n})
	}
	slices.SortFunc(counts, func(a, b Count) int {
		if by == "severity" {
			return cmp.Compare(slices.Index(record.Severities[:], a.Key), slices.Index(record.Severities[:], b.Key))
		}
		return cmp.Compare(a.Key, b.Key)
	})
	return total, counts, err
}

// Histogram counts the records that meet the query in equal parts of its span,
// by severity. Without a condition the kept counts by minute answer, so that
// the ends of the parts are those of minutes.
func (s *Store) Histogram(ctx context.Context, q Query, parts int) ([][8]int64, error) {
	part := func(t int64) int64 {
		p := int64(float64(t-q.Since) / float64(q.Until-q.Since) * float64(parts))
		return max(0, min(p, int64(parts)-1))
	}
	counts := make([][8]int64, parts)
	if q.Condition != nil || q.Until-q.Since < int64(parts)*60e6 {
		cells, err := s.count(ctx, q, false, func(t int64, _ *record.Record) int64 { return part(t) })
		for c, n := range cells {
			counts[c.at][c.severity] = n
		}
		return counts, err
	}
	return counts, s.keptInParts(ctx, &q, counts, func(m model.Minute) int64 { return part(m.Minute * 60e6) })
}

// keptInParts adds the counts by minute that were kept, in equal parts of the query's span. The
// databases add them up, where no feed moves, so that a year is not much to read.
func (s *Store) keptInParts(ctx context.Context, q *Query, counts [][8]int64, part func(model.Minute) int64) error {
	since, until, parts := floorMinute(q.Since), ceilMinute(q.Until), len(counts)
	return s.steadily(ctx, q, func(view *shelf.View) error {
		clear(counts)
		all, err := onEach(ctx, s, q, view.Shelves, func(db *gorm.DB, of *shelf.Shelf) (rows []model.Minute, err error) {
			if len(view.Moves(of.ID)) > 0 {
				rows, err = minutesOn(db, of.ID, view, q.Casks, since, until)
				for i := range rows {
					rows[i].Minute = part(rows[i])
				}
				return rows, err
			}
			err = db.Model(&model.Minute{}).
				Select("CAST(LEAST(?, GREATEST(0, FLOOR(CAST(minute * 60000000 - ? AS DOUBLE) / CAST(? AS DOUBLE) * ?))) AS SIGNED) AS minute, severity, SUM(count) AS count", parts-1, q.Since, q.Until-q.Since, parts).
				Where("cask_id IN ? AND minute >= ? AND minute < ?", q.Casks, since, until).Group("1, 2").Find(&rows).Error
			return rows, err
		})
		for _, m := range slices.Concat(all...) {
			counts[m.Minute][m.Severity] += m.Count
		}
		return err
	})
}

// kept returns the counts by minute that were kept when the records came.
func (s *Store) kept(ctx context.Context, q *Query, since, until int64) (cells map[cell]int64, err error) {
	err = s.steadily(ctx, q, func(view *shelf.View) error {
		cells = map[cell]int64{}
		all, err := onEach(ctx, s, q, view.Shelves, func(db *gorm.DB, of *shelf.Shelf) ([]model.Minute, error) {
			return minutesOn(db, of.ID, view, q.Casks, since, until)
		})
		for _, m := range slices.Concat(all...) {
			cells[cell{m.Minute, record.Severity(m.Severity)}] += m.Count
		}
		return err
	})
	return cells, err
}

// minutesOn returns the counts by minute of a shelf, to which those of blocks are added that
// have come from another shelf and are not counted yet, and of which those are taken that
// count at another one already.
func minutesOn(db *gorm.DB, on uint32, view *shelf.View, casks []uint64, since, until int64) (rows []model.Minute, err error) {
	feeds := view.Moves(on)
	read := func(tx *gorm.DB) error {
		if err := tx.Where("cask_id IN ? AND minute >= ? AND minute < ?", casks, since, until).Find(&rows).Error; err != nil || len(feeds) == 0 {
			return err
		}
		var blocks []model.Block
		if err := tx.Omit("payload", "words", "field_values").Where("feed_id IN ? AND cask_id IN ? AND records > 0", feeds, casks).Find(&blocks).Error; err != nil {
			return err
		}
		for _, b := range blocks {
			counts := view.Counts(on, b.FeedID, b.LastNumber, b.Moving)
			if counts != b.Moving {
				continue // it is where it counts, or does not where it does not
			}
			apart := map[model.Minute]int64{}
			if err := ingest.CountBlock(b, func() ([]byte, error) { return ingest.Payload(tx, b.ID) }, apart); err != nil {
				return err
			}
			for m, n := range apart {
				if m.Minute < since || m.Minute >= until {
					continue
				}
				if m.Count = n; !counts {
					m.Count = -n
				}
				rows = append(rows, m)
			}
		}
		return nil
	}
	if len(feeds) == 0 {
		return rows, read(db)
	}
	err = db.Transaction(read, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	return rows, err
}

// count counts by severity and by what at returns for a record and its time in microseconds. It
// opens every block that may hold a hit; where at asks for the priority alone, those only that do
// not tell by their kinds.
func (s *Store) count(ctx context.Context, q Query, priorityAlone bool, at func(micros int64, r *record.Record) int64) (map[cell]int64, error) {
	all := map[cell]int64{}
	heads, err := s.heads(ctx, &q)
	if err == nil && priorityAlone {
		heads, err = s.eachKind(ctx, &q, heads, nil, func(_ head, k *ingest.Kind) {
			all[cell{at(0, &record.Record{Priority: k.Priority}), k.Priority.Severity()}] += k.Count
		})
	}
	if err != nil {
		return nil, err
	}
	find := func(h head, b *block.Block) (map[cell]int64, error) {
		cells := map[cell]int64{}
		return cells, q.each(h, b, false, func(place Place, r *record.Record) {
			cells[cell{at(place.Time, r), r.Severity()}]++
		})
	}
	return all, eachBlock(ctx, s, &q, heads, find, func(cells map[cell]int64, _ *head) (bool, error) {
		for c, n := range cells {
			all[c] += n
		}
		return true, nil
	})
}

func ceilMinute(t int64) int64 {
	if t == math.MinInt64 || t == math.MaxInt64 {
		return t / 60e6
	}
	return (t + 60e6 - 1) / 60e6
}

func floorMinute(t int64) int64 {
	if t < 0 {
		return -((60e6 - 1 - t) / 60e6)
	}
	return t / 60e6
}
