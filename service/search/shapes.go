package search

import (
	"cmp"
	"context"
	"math"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/shape"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// ShapeCount is what is told of the records of one shape.
type ShapeCount struct {
	Key         uint64
	Text        string // the shape
	Count       int64
	Before      int64            // in the span before, which is as long
	Hosts, Apps map[string]int64 // records of each
	Severities  [8]int64
	First, Last int64   // of the span, in microseconds since 1970
	Known       int64   // Never, or since when there are records of it in these casks, likewise
	Course      []int64 // records in equal parts of the span
}

// Never stands for a time since when nobody knows of anything.
const Never = math.MaxInt64

// Shapes tells of what shapes the records are that meet a query.
type Shapes struct {
	Total, Before int64
	All           []*ShapeCount // that are in the span, or were in the one before; in no order
	Others        int64         // records of the span with shapes that are too many to be told apart

	began int64   // since when there are records of any of them
	ratio float64 // how many records a shape usually has for each that it had before
}

const (
	mostShapes     = 20_000  // that are told apart
	mostNames      = 1000    // hosts, or apps, of a shape that are told apart
	mostNamesOfAll = 200_000 // likewise, of all shapes together
)

// Shapes counts the records that meet the query by the shapes of their texts, also those of as
// long a span before. The query has a span. Of blocks that lie within one of the two spans only
// what stands beside them is read, where the condition asks for no more than that tells.
func (s *Store) Shapes(ctx context.Context, q Query, parts int) (*Shapes, error) {
	both := q
	both.Since = q.Since - (q.Until - q.Since)
	heads, err := s.heads(ctx, &both)
	if err != nil {
		return nil, err
	}
	empty := func() *tally {
		return &tally{since: q.Since, until: q.Until, parts: parts, shapes: map[uint64]*ShapeCount{}}
	}
	t := empty()
	opened, err := s.eachKind(ctx, &both, heads, func(h head) bool { return h.FirstTime >= q.Since || h.LastTime < q.Since }, func(h head, k *ingest.Kind) {
		t.add(k, h.FirstTime >= q.Since)
	})
	if err != nil {
		return nil, err
	}
	find := func(h head, b *block.Block) (*tally, error) {
		of := empty()
		var text []byte
		return of, both.each(h, b, true, func(place Place, r *record.Record) {
			text = shape.Append(text[:0], r.Text)
			key := shape.KeyOf(text)
			k := ingest.Kind{Host: r.Host, App: r.App, Priority: r.Priority, Key: key, Count: 1, First: place.Time, Last: place.Time}
			if c := of.add(&k, place.Time >= q.Since); c != nil && c.Text == "" {
				c.Text = string(text)
			}
		})
	}
	err = eachBlock(ctx, s, &both, opened, find, func(of *tally, _ *head) (bool, error) {
		if of != nil { // it is not there, or is damaged, or surely has no hit
			t.merge(of)
		}
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	all := &Shapes{Total: t.total, Before: t.before, Others: t.others}
	for _, c := range t.shapes {
		all.All = append(all.All, c)
	}
	if err := s.nameShapes(ctx, &q, all.All); err != nil {
		return nil, err
	}
	all.ratio, all.began = ratioOf(all.All), Never
	for _, c := range all.All {
		all.began = min(all.began, c.Known)
	}
	return all, nil
}

// eachShape calls each with what a shelf knows of shapes.
func eachShape(db *gorm.DB, casks, keys []uint64, each func(model.Shape)) error {
	for some := range slices.Chunk(keys, mostTogether) {
		var rows []model.Shape
		if err := db.Where("cask_id IN ? AND `key` IN ?", casks, some).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			each(r)
		}
	}
	return nil
}

// Began returns since when there are records of any shape in the casks of a query, Never for none.
func (s *Store) Began(ctx context.Context, q Query) (int64, error) {
	found, err := onEach(ctx, s, &q, s.shelves.All(), func(db *gorm.DB, _ *shelf.Shelf) (began []int64, err error) {
		var first *int64
		err = db.Model(&model.Shape{}).Where("cask_id IN ?", q.Casks).Select("MIN(first)").Scan(&first).Error
		if first != nil {
			began = []int64{*first}
		}
		return began, err
	})
	return slices.Min(append(slices.Concat(found...), Never)), err
}

// nameShapes notes the texts of shapes, and since when they are known: on whichever shelf.
func (s *Store) nameShapes(ctx context.Context, q *Query, all []*ShapeCount) error {
	byKey := map[uint64]*ShapeCount{}
	var keys []uint64
	for _, c := range all {
		byKey[c.Key] = c
		keys = append(keys, c.Key)
		c.Known = Never
		if c.Count > 0 {
			c.Known = c.First
		}
	}
	found, err := onEach(ctx, s, q, s.shelves.All(), func(db *gorm.DB, _ *shelf.Shelf) (rows []model.Shape, err error) {
		err = eachShape(db, q.Casks, keys, func(r model.Shape) { rows = append(rows, r) })
		return rows, err
	})
	for _, r := range slices.Concat(found...) {
		c := byKey[r.Key]
		c.Text, c.Known = string(r.Text), min(c.Known, r.First)
	}
	return err
}

// tally counts records by shape.
type tally struct {
	since, until          int64
	parts                 int
	total, before, others int64
	names                 int // of hosts and apps, of all shapes
	shapes                map[uint64]*ShapeCount
}

// add adds records of a kind, which are of the span now, or of the one before. It returns what is
// told of their shape; nil where it is one too many.
func (t *tally) add(k *ingest.Kind, now bool) *ShapeCount {
	if now {
		t.total += k.Count
	} else {
		t.before += k.Count
	}
	c := t.shape(k.Key)
	if c == nil {
		if now {
			t.others += k.Count
		}
		return nil
	}
	if !now {
		c.Before += k.Count
		return c
	}
	if c.Count == 0 {
		c.First, c.Last = k.First, k.Last
	}
	c.Count += k.Count
	c.First, c.Last = min(c.First, k.First), max(c.Last, k.Last)
	c.Severities[k.Priority.Severity()] += k.Count
	t.countName(c.Hosts, k.Host, k.Count)
	t.countName(c.Apps, k.App, k.Count)
	t.addCourse(c, k)
	return c
}

func (t *tally) shape(key uint64) *ShapeCount {
	c := t.shapes[key]
	if c == nil && len(t.shapes) < mostShapes {
		c = &ShapeCount{Key: key, Hosts: map[string]int64{}, Apps: map[string]int64{}, Course: make([]int64, t.parts)}
		t.shapes[key] = c
	}
	return c
}

// countName counts a host or an app. Those of a shape that are too many are not told apart.
func (t *tally) countName(names map[string]int64, name []byte, n int64) {
	if _, known := names[string(name)]; !known {
		if len(names) == mostNames || t.names == mostNamesOfAll {
			return
		}
		t.names++
	}
	names[string(name)] += n
}

// addCourse spreads records evenly between the first and the last of them.
func (t *tally) addCourse(c *ShapeCount, k *ingest.Kind) {
	first, last := t.part(k.First), t.part(k.Last)
	n := int64(last - first + 1)
	for i := range n {
		c.Course[int64(first)+i] += k.Count*(i+1)/n - k.Count*i/n
	}
}

// part returns in which part of the span a time is.
func (t *tally) part(at int64) int {
	p := int(float64(at-t.since) / float64(t.until-t.since) * float64(t.parts))
	return max(0, min(p, t.parts-1))
}

// merge adds another tally of the same span.
func (t *tally) merge(o *tally) {
	t.total, t.before, t.others = t.total+o.total, t.before+o.before, t.others+o.others
	for key, from := range o.shapes {
		c := t.shape(key)
		if c == nil {
			t.others += from.Count
			continue
		}
		if c.Count == 0 || from.Count > 0 && from.First < c.First {
			c.First = from.First
		}
		c.Text = cmp.Or(c.Text, from.Text)
		c.Count, c.Before, c.Last = c.Count+from.Count, c.Before+from.Before, max(c.Last, from.Last)
		for i, n := range from.Severities {
			c.Severities[i] += n
		}
		for i, n := range from.Course {
			c.Course[i] += n
		}
		for name, n := range from.Hosts {
			t.countName(c.Hosts, []byte(name), n)
		}
		for name, n := range from.Apps {
			t.countName(c.Apps, []byte(name), n)
		}
	}
}
