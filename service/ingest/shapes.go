package ingest

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/core/block"
	"oakbarrel/service/model"
)

// A shelf knows the texts of the shapes that its blocks name by their keys, and since when there
// are records of each. A batch tells of those that are new, or began earlier than was known.

const (
	mostShapes   = 50_000  // that are known of a cask; records of others are counted by opening their blocks
	shapesInMind = 400_000 // of all casks
	shapesOnce   = 500     // that one statement tells of
	seenAgain    = 6 * time.Hour
	loadAgain    = time.Minute
	neverAgain   = math.MaxInt64
)

// shapesKnown is what a service knows to be in the table of shapes of a shelf. It may be used by
// several goroutines at a time.
type shapesKnown struct {
	mu     sync.Mutex
	known  map[shapeKey]shapeTimes
	of     map[uint64]int // how many a cask has
	loaded map[uint64]time.Time
}

func newShapesKnown() *shapesKnown {
	return &shapesKnown{known: map[shapeKey]shapeTimes{}, of: map[uint64]int{}, loaded: map[uint64]time.Time{}}
}

type shapeKey struct{ cask, key uint64 }

// shapeTimes are those of a row, or later ones.
type shapeTimes struct{ first, last int64 }

// tellOf returns the rows that a batch makes necessary. Where its cask has no room for them,
// nothing stands beside the row of its block.
func (s *shapesKnown) tellOf(tx *gorm.DB, b *Batch, row *model.Block) ([]model.Shape, error) {
	if len(row.Kinds) == 0 {
		return nil, nil
	}
	if err := s.load(tx, b.CaskID, neverAgain); err != nil {
		return nil, err
	}
	rows, fits := s.news(b.CaskID, b.kinds.all, row.Arrived)
	if !fits { // but some may have been removed, or other services may have told of these
		if err := s.load(tx, b.CaskID, loadAgain); err != nil {
			return nil, err
		}
		if rows, fits = s.news(b.CaskID, b.kinds.all, row.Arrived); !fits {
			row.Kinds = []byte{}
			return nil, nil
		}
	}
	return rows, nil
}

// load learns what the table has of a cask, unless that was done within a time.
func (s *shapesKnown) load(tx *gorm.DB, cask uint64, again time.Duration) error {
	s.mu.Lock()
	loaded, ever := s.loaded[cask]
	s.mu.Unlock()
	if ever && time.Since(loaded) < again {
		return nil
	}
	var rows []model.Shape
	if err := tx.Select("cask_id, `key`, first, last").Where("cask_id = ?", cask).Find(&rows).Error; err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.known)+len(rows) > shapesInMind {
		clear(s.known)
		clear(s.loaded)
		clear(s.of)
	}
	maps.DeleteFunc(s.known, func(k shapeKey, _ shapeTimes) bool { return k.cask == cask })
	for _, r := range rows {
		s.known[shapeKey{cask, r.Key}] = shapeTimes{r.First, r.Last}
	}
	s.loaded[cask], s.of[cask] = time.Now(), len(rows)
	return nil
}

// news returns the rows that kinds of a cask make necessary at a time, and whether the cask has
// room for those of them that are new.
func (s *shapesKnown) news(cask uint64, kinds []block.Kind, now int64) (rows []model.Shape, fits bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := map[uint64]int{} // in rows
	more := s.of[cask]
	for _, k := range kinds {
		first := Micros(k.First)
		t, known := s.known[shapeKey{cask, k.Key}]
		if known && first >= t.first && now-t.last < seenAgain.Microseconds() {
			continue
		}
		if i, twice := at[k.Key]; twice {
			rows[i].First = min(rows[i].First, first)
			continue
		}
		if !known {
			more++
		}
		at[k.Key] = len(rows)
		rows = append(rows, model.Shape{CaskID: cask, Key: k.Key, Text: k.Shape, First: first, Last: now, IsNew: !known})
	}
	return rows, more == s.of[cask] || more <= mostShapes
}

// note notes rows that are committed.
func (s *shapesKnown) note(rows []model.Shape) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range rows {
		key := shapeKey{r.CaskID, r.Key}
		t, known := s.known[key]
		if !known {
			t.first = r.First
			s.of[r.CaskID]++
		}
		s.known[key] = shapeTimes{min(t.first, r.First), max(t.last, r.Last)}
	}
}

// AddShapes tells a shelf of shapes: each is there, began when the earliest row says, and was
// there when the latest one says. In an order that lets no two services wait for each other.
func AddShapes(tx *gorm.DB, rows []model.Shape) error {
	if len(rows) == 0 {
		return nil
	}
	slices.SortFunc(rows, func(a, b model.Shape) int { return cmp.Or(cmp.Compare(a.CaskID, b.CaskID), cmp.Compare(a.Key, b.Key)) })
	return tx.Clauses(clause.OnConflict{DoUpdates: clause.Assignments(map[string]any{
		"first": gorm.Expr("LEAST(first, VALUES(first))"), "last": gorm.Expr("GREATEST(last, VALUES(last))"),
	})}).CreateInBatches(rows, shapesOnce).Error
}

// CopyShapes tells a shelf of all shapes that blocks of another one name.
func CopyShapes(from, to *gorm.DB, blocks []model.Block) error {
	keys := map[uint64][]uint64{} // by cask
	for _, b := range blocks {
		kinds, _, err := OpenKinds(b.Kinds)
		if err != nil {
			continue // a check tells of it
		}
		for _, k := range kinds {
			keys[b.CaskID] = append(keys[b.CaskID], k.Key)
		}
	}
	var rows []model.Shape
	for cask, all := range keys {
		slices.Sort(all)
		for some := range slices.Chunk(slices.Compact(all), shapesOnce) {
			var found []model.Shape
			if err := from.Where("cask_id = ? AND `key` IN ?", cask, some).Find(&found).Error; err != nil {
				return err
			}
			rows = append(rows, found...)
		}
	}
	return AddShapes(to, rows)
}

// Describe returns what is to stand beside a block of which nothing does: of what kinds its
// records are, and the shapes of these. The block has its payload.
func Describe(b model.Block) (packed []byte, shapes []model.Shape, err error) {
	content, err := block.Open(b.Payload)
	if err != nil {
		return nil, nil, err
	}
	kinds, err := readKinds(content)
	if err != nil {
		return nil, nil, err
	}
	if packed = kinds.pack(); len(packed) == 0 {
		return packed, nil, nil
	}
	shapes, _ = newShapesKnown().news(b.CaskID, kinds.all, b.Arrived)
	return packed, shapes, nil
}
