// Package check looks through the whole store for what is not as it should be: blocks
// that cannot be read, numbers that are missing or there twice, counts that do not
// fit. It changes nothing, and may run beside a service.
package check

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// Report is what was found.
type Report struct {
	Blocks  int64     `json:"blocks"`
	Records int64     `json:"records"`
	Bytes   int64     `json:"bytes"`
	Feeds   int       `json:"feeds"`
	Faults  []Fault   `json:"faults"`
	Missing []string  `json:"missing,omitempty"` // shelves that are away, and were not looked at
	shelf   string    // that is looked at, "" where there is one alone
	whole   bool      // none of its blocks is damaged, so that the counts can be compared
	counts  allCounts // of its blocks
}

type allCounts map[model.Minute]int64

// Fault is something that is not as it should be.
type Fault struct {
	Shelf string `json:"shelf,omitempty"` // "" where there is one alone
	Cask  string `json:"cask"`
	Block uint64 `json:"block"` // 0 for none
	What  string `json:"what"`
}

// together is how many blocks are read at a time.
const together = 16

// Store looks at every block of each shelf: whether it is what came, and what is said of it;
// then whether feeds go on without a gap, and the counts by minute are those of the records.
// After each look it calls progress, where it is not nil, with how many of all blocks were
// looked at. It sees each shelf as it was when it came to it: what is committed or removed
// meanwhile is no fault.
func Store(ctx context.Context, shelves *shelf.Set, progress func(done, all int64)) (r Report, err error) {
	names, err := caskNames(shelves.First(ctx))
	if err != nil {
		return r, err
	}
	r.Faults = []Fault{}
	var all int64
	var there []*shelf.Shelf
	for _, of := range shelves.All() {
		n, err := blocksOn(ctx, of)
		if err != nil && of.ID == model.FirstShelf {
			return r, err
		}
		if err != nil {
			r.Missing = append(r.Missing, of.Name())
			continue
		}
		there, all = append(there, of), all+n
	}
	for _, of := range there {
		if len(there)+len(r.Missing) > 1 {
			r.shelf = of.Name()
		}
		db, err := of.DB(ctx)
		if err != nil {
			return r, err
		}
		err = db.Transaction(func(tx *gorm.DB) error { return r.look(tx, of.ID, names, all, progress) }, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		if err != nil {
			return r, err
		}
	}
	return r, nil
}

func blocksOn(ctx context.Context, of *shelf.Shelf) (n int64, err error) {
	db, err := of.DB(ctx)
	if err == nil {
		err = db.Model(&model.Block{}).Count(&n).Error
	}
	return n, err
}

// look looks at one shelf.
func (r *Report) look(db *gorm.DB, shelf uint32, names map[uint64]string, all int64, progress func(done, all int64)) error {
	r.counts, r.whole = allCounts{}, true
	ends := map[uint64]model.Block{} // the last block of each feed
	last := model.Block{}
	for more := true; more; {
		var blocks []model.Block
		err := db.Where("moving = 0 AND (feed_id > ? OR feed_id = ? AND first_number > ?)", last.FeedID, last.FeedID, last.FirstNumber).Order("feed_id, first_number").Limit(together).Find(&blocks).Error
		if err != nil {
			return err
		}
		filters, err := ingest.Filters(db, blocks)
		if err != nil {
			return err
		}
		for _, b := range blocks {
			r.checkBlock(b, filters[b.ID], names)
			if before, known := ends[b.FeedID]; known && b.FirstNumber != before.LastNumber+1 {
				r.fault(names[b.CaskID], b.ID, "number %d of feed %d follows on %d", b.FirstNumber, b.FeedID, before.LastNumber)
			}
			b.Payload, b.Words = nil, nil
			ends[b.FeedID], last = b, b
		}
		more = len(blocks) > 0
		if progress != nil {
			progress(r.Blocks, all)
		}
	}
	if err := r.lookAtFeeds(db, shelf, ends, names); err != nil {
		return err
	}
	if r.whole {
		return r.lookAtCounts(db, names)
	}
	return nil
}

func caskNames(db *gorm.DB) (map[uint64]string, error) {
	var casks []model.Cask
	err := db.Find(&casks).Error
	names := map[uint64]string{}
	for _, c := range casks {
		names[c.ID] = c.Name
	}
	return names, err
}

func (r *Report) fault(cask string, block uint64, format string, args ...any) {
	r.Faults = append(r.Faults, Fault{r.shelf, cask, block, fmt.Sprintf(format, args...)})
}

// checkBlock looks at one block.
func (r *Report) checkBlock(b model.Block, filter block.Words, names map[uint64]string) {
	cask := names[b.CaskID]
	r.Blocks++
	r.Records += int64(b.Records)
	r.Bytes += b.Size
	hash := sha256.Sum256(b.Payload)
	if !bytes.Equal(hash[:], b.Hash) {
		r.whole = false
		r.fault(cask, b.ID, "its %d bytes are not those that came: the checksum is another; the records %d to %d are damaged", b.Size, b.FirstNumber, b.LastNumber)
		return
	}
	if b.Records == 0 {
		return
	}
	content, words, err := block.Index(b.Payload)
	if err != nil {
		r.whole = false
		r.fault(cask, b.ID, "it cannot be read: %v", err)
		return
	}
	h := content.Header()
	if h.Records != b.Records || h.FirstNumber < b.FirstNumber || h.LastNumber > b.LastNumber || ingest.Micros(h.FirstTime) != b.FirstTime || ingest.Micros(h.LastTime) != b.LastTime || h.Severities != b.Severities || h.Facilities != b.Facilities {
		r.fault(cask, b.ID, "what is said of it is not what stands in it")
	}
	if err := ingest.CountContent(content, b.CaskID, r.counts); err != nil {
		r.fault(cask, b.ID, "it cannot be read: %v", err)
	} else if !ingest.MinutesAreOf(b, content) {
		r.fault(cask, b.ID, "the counts beside it are not those of its records: once it is removed, counts over time will be wrong")
	}
	if !ingest.KindsAreOf(b, content) {
		r.fault(cask, b.ID, "what is said of its shapes is not what stands in it: they are counted wrong")
	}
	if !ingest.ValuesAreOf(b, content) {
		r.fault(cask, b.ID, "what is said of the values of its fields is not what stands in it: they are counted wrong")
	}
	if !sameFilter(b, filter, words) {
		r.fault(cask, b.ID, "its filter is not that of its words: searches may pass over it")
	}
}

// sameFilter tells whether the filter of a block is the one of its words. One of
// an older version is not looked at; without one the block is always opened.
func sameFilter(b model.Block, filter, words block.Words) bool {
	if len(filter) == 0 {
		return !b.WordsApart && b.SheafID == 0
	}
	return filter.Version() != words.Version() || bytes.Equal(filter, words)
}

// lookAtFeeds compares what is confirmed with what is there.
func (r *Report) lookAtFeeds(db *gorm.DB, shelf uint32, ends map[uint64]model.Block, names map[uint64]string) error {
	var feeds []model.Feed
	if err := db.Where("shelf_id = ?", shelf).Find(&feeds).Error; err != nil {
		return err
	}
	r.Feeds += len(feeds)
	for _, f := range feeds {
		// A feed of which nothing is left was trimmed.
		if last, some := ends[f.ID]; some && last.LastNumber != f.Confirmed {
			r.fault(names[last.CaskID], last.ID, "feed %d of agent %s is confirmed up to %d, and its last block ends at %d", f.ID, f.AgentID, f.Confirmed, last.LastNumber)
		}
	}
	return nil
}

func (r *Report) lookAtCounts(db *gorm.DB, names map[uint64]string) error {
	var rows []model.Minute
	if err := db.Find(&rows).Error; err != nil {
		return err
	}
	wrong := map[uint64]int64{}
	for _, row := range rows {
		n := row.Count
		row.Count = 0
		wrong[row.CaskID] += abs(n - r.counts[row])
		delete(r.counts, row)
	}
	for m, n := range r.counts {
		wrong[m.CaskID] += n
	}
	for cask, n := range wrong {
		if n > 0 {
			r.fault(names[cask], 0, "the counts by minute are wrong by %d records", n)
		}
	}
	return nil
}

func abs(n int64) int64 { return max(n, -n) }
