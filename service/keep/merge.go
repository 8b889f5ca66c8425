package keep

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
)

// Quiet hosts send small blocks. What came for a while is merged into larger
// ones, so that a search has fewer to look at.
const (
	mergeAfter   = 10 * time.Minute // since a block came; what an agent may send again is younger
	mergeSpan    = 6 * time.Hour    // from the first to the last arrival in a merged block
	mergeRun     = 32               // blocks that are merged before their span is over
	mergeRecords = 20_000           // of a merged block at most
	mergeBytes   = 4 << 20          // likewise, uncompressed
	mergeLook    = 256              // blocks of a feed that are looked at together
)

// merge merges the small blocks of all feeds, some of each, and tells whether there are more.
func (p *Keeper) merge(ctx context.Context, db *gorm.DB) (more bool, err error) {
	var feeds, move []uint64
	if err := p.Shelves.First(ctx).Model(&model.Move{}).Where("from_id = ?", p.Shelf.ID).Pluck("feed_id", &move).Error; err != nil {
		return false, err
	}
	before := p.Now().Add(-mergeAfter).UnixMicro()
	if err := db.Model(&model.Block{}).Where("settled = 0 AND arrived < ?", before).Distinct().Pluck("feed_id", &feeds).Error; err != nil {
		return false, err
	}
	for _, feed := range feeds {
		if slices.Contains(move, feed) {
			continue
		}
		var blocks []model.Block
		err := db.Omit("payload", "words", "field_values").Where("feed_id = ? AND settled = 0 AND moving = 0 AND arrived < ?", feed, before).Order("first_number").Limit(mergeLook).Find(&blocks).Error
		if err != nil {
			return false, err
		}
		more = more || len(blocks) == mergeLook
		for len(blocks) > 0 {
			run := p.run(blocks)
			if err := p.mergeRun(db, blocks[:run], len(blocks) > run); err != nil {
				return false, err
			}
			blocks = blocks[run:]
		}
	}
	return more, nil
}

// run returns how many of the blocks, from the first on, can be one.
func (p *Keeper) run(blocks []model.Block) int {
	records, bytes := 0, int64(0)
	for i, b := range blocks {
		records += b.Records
		bytes += b.BodySize
		first := blocks[0]
		if i > 0 && (b.CaskID != first.CaskID || b.Twice != first.Twice || b.FirstNumber != blocks[i-1].LastNumber+1 || records > mergeRecords || bytes > mergeBytes || b.Arrived-first.Arrived > mergeSpan.Microseconds()) {
			return i
		}
	}
	return len(blocks)
}

// mergeRun makes one block of several, where they are many, or nothing will
// come that could be added: another follows that does not fit, or their time is over.
func (p *Keeper) mergeRun(db *gorm.DB, run []model.Block, followed bool) error {
	over := followed || p.Now().UnixMicro()-run[0].Arrived > (mergeSpan+mergeAfter).Microseconds()
	if !over && len(run) < mergeRun {
		return nil
	}
	var ids []uint64
	for _, b := range run {
		ids = append(ids, b.ID)
	}
	if len(run) == 1 {
		return p.settle(db, ids[0])
	}
	err := p.change(db, func(tx *gorm.DB) error {
		var blocks []model.Block
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Omit("words").Where("id IN ?", ids).Order("first_number").Find(&blocks).Error; err != nil {
			return err
		}
		if len(blocks) < len(ids) {
			return nil // some were removed meanwhile
		}
		row, err := merged(blocks)
		if err != nil {
			return err
		}
		if row.Settled = over; over && row.Records > 0 {
			if row.Values, err = ingest.DescribeValues(row.Payload); err != nil {
				return err
			}
		}
		if err := ingest.Insert(tx, &row); err != nil {
			return err
		}
		return ingest.Remove(tx, blocks)
	})
	if errors.Is(err, block.ErrDamaged) {
		p.Log.Error("blocks cannot be merged, as one is damaged; oakbarrel store check tells which", "first", ids[0], "last", ids[len(ids)-1], "why", err)
		return db.Model(&model.Block{}).Where("id IN ?", ids).Update("settled", true).Error
	}
	return err
}

// merged makes one block of several that follow each other.
func merged(blocks []model.Block) (row model.Block, err error) {
	first, last := blocks[0], blocks[len(blocks)-1]
	b := ingest.Batch{FeedKey: ingest.FeedKey{CaskID: first.CaskID}, Twice: first.Twice, Numbers: spool.Numbers{First: first.FirstNumber, Last: last.LastNumber}}
	var builder block.Builder
	for _, part := range blocks {
		b.Lost += part.Lost
		b.Refused += part.Refused
		if part.Shed != "" {
			var shed [8]int
			if err := json.Unmarshal([]byte(part.Shed), &shed); err != nil {
				return row, err
			}
			for i, n := range shed {
				b.Shed[i] += n
			}
		}
		if part.Records == 0 {
			continue
		}
		content, err := block.Decode(part.Payload)
		if err != nil {
			return row, err
		}
		if err := content.Each(func(number uint64, r *record.Record) bool {
			builder.Add(number, r)
			return true
		}); err != nil {
			return row, err
		}
	}
	if builder.Len() > 0 {
		b.Payload = builder.Finish(nil)
	}
	b.Hash = sha256.Sum256(b.Payload)
	if err := b.Open(); err != nil {
		return row, err
	}
	row = b.Row(first.FeedID)
	row.Arrived, row.Merged = last.Arrived, true
	return row, nil
}
