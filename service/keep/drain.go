package keep

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/core/block"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// A shelf that drains gives its feeds to others, one after the other, while they are written
// to and read. Some blocks at a time
//
//  1. are copied to the other shelf, where they do not count yet,
//  2. are noted in the first database as moved, which is when they count there, and no longer here,
//  3. are added to the counts of the other shelf,
//  4. are removed here.
//
// Those who read know from the first database what counts where, and look again where that
// has changed meanwhile. Once few are left, the feed is fenced: nothing is taken any more
// until the rest and the feed itself have moved. Whatever ends in between goes on where it
// was; of two that drain one has the lease of the shelf that is drained, and that of the other.

const (
	drainTime  = 20 * time.Second // for which it drains until other work is looked at
	moveBlocks = 8                // that are moved together
	heldPause  = 100 * time.Millisecond
)

// drain moves feeds of this shelf to others, and tells whether some are left to be moved.
func (p *Keeper) drain(ctx context.Context, db *gorm.DB) (more bool, err error) {
	for began := time.Now(); time.Since(began) < drainTime; {
		move, some, err := p.nextMove(ctx)
		if err != nil || !some {
			return false, err
		}
		if err := p.moveSome(ctx, db, move, began); err != nil {
			return false, err
		}
	}
	return true, nil
}

// nextMove returns the feed that moves, or is to be moved next.
func (p *Keeper) nextMove(ctx context.Context) (m model.Move, some bool, err error) {
	first := p.Shelves.First(ctx)
	err = first.Where("from_id = ?", p.Shelf.ID).Order("feed_id").Take(&m).Error
	if !errors.Is(err, gorm.ErrRecordNotFound) {
		return m, err == nil, err
	}
	if !p.Shelf.Row().Drains {
		return m, false, nil
	}
	var feed model.Feed
	err = first.Select("id").Where("shelf_id = ?", p.Shelf.ID).Order("id").Take(&feed).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return m, false, nil
	}
	if err != nil {
		return m, false, err
	}
	feeds, err := shelf.FeedsOn(first)
	if err != nil {
		return m, false, err
	}
	m = model.Move{FeedID: feed.ID, FromID: p.Shelf.ID, ToID: shelf.Best(p.Shelves.All(), feeds, 0)}
	if m.ToID == 0 || m.ToID == p.Shelf.ID {
		return m, false, fmt.Errorf("shelf %s cannot be drained: no other takes feeds", p.Shelf.Name())
	}
	return m, true, p.noteMove(ctx, func(tx *gorm.DB) error { return one(tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&m)) })
}

// noteMove changes what counts where, once nobody holds it.
func (p *Keeper) noteMove(ctx context.Context, change func(tx *gorm.DB) error) error {
	for {
		err := model.Transact(p.Shelves.First(ctx), func(tx *gorm.DB) error {
			if err := change(tx); err != nil {
				return err
			}
			return shelf.Note(tx)
		})
		if !errors.Is(err, shelf.ErrHeld) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(heldPause):
		}
	}
}

// one returns an error where a statement has not changed the one row that was expected: another
// service goes on with it.
func one(changed *gorm.DB) error {
	if changed.Error == nil && changed.RowsAffected != 1 {
		return model.ErrNotMine
	}
	return changed.Error
}

// mover moves the blocks of one feed.
type mover struct {
	*Keeper
	ctx      context.Context
	from, to *gorm.DB
	lease    model.Lease // on the shelf that it moves to
	move     model.Move
}

// moveSome moves a feed, or a part of it where that takes long.
func (p *Keeper) moveSome(ctx context.Context, from *gorm.DB, move model.Move, began time.Time) error {
	to, err := p.Shelves.Of(move.ToID).DB(ctx)
	if err != nil {
		return err
	}
	m := &mover{p, ctx, from, to, model.Lease{Job: fmt.Sprintf("drain %d", move.FromID), Holder: p.Holder, For: leaseTime}, move}
	if mine, err := m.lease.Take(to); err != nil || !mine {
		return err
	}
	if err := m.resume(); err != nil {
		return err
	}
	for {
		n, err := m.some()
		if err != nil {
			return err
		}
		if n < moveBlocks {
			break
		}
		if time.Since(began) > drainTime {
			return nil
		}
	}
	if err := m.handOver(); err != nil {
		return err
	}
	p.Log.Info("a feed lives on another shelf now", "feed", move.FeedID, "from", p.Shelf.Name(), "to", p.Shelves.Of(move.ToID).Name())
	return nil
}

// there is a transaction on the shelf that it moves to.
func (m *mover) there(do func(tx *gorm.DB) error) error {
	return m.lease.Change(m.to, do)
}

// resume ends what was broken off.
func (m *mover) resume() error {
	err := m.there(func(tx *gorm.DB) error {
		var begun []model.Block
		if err := tx.Omit("payload", "words", "field_values").Where("feed_id = ? AND moving = 1 AND last_number > ?", m.move.FeedID, m.move.Through).Find(&begun).Error; err != nil || len(begun) == 0 {
			return err
		}
		return ingest.Remove(tx, begun)
	})
	if err != nil {
		return err
	}
	return m.settle()
}

// some moves some blocks, and tells how many.
func (m *mover) some() (n int, err error) {
	var blocks []model.Block
	if err := m.from.Where("feed_id = ?", m.move.FeedID).Order("first_number").Limit(moveBlocks).Find(&blocks).Error; err != nil || len(blocks) == 0 {
		return 0, err
	}
	filters, err := ingest.Filters(m.from, blocks)
	if err != nil {
		return 0, err
	}
	err = m.there(func(tx *gorm.DB) error {
		if err := ingest.CopyShapes(m.from, tx, blocks); err != nil {
			return err
		}
		for _, b := range blocks {
			if err := insertCopy(tx, b, filters[b.ID]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	last := blocks[len(blocks)-1].LastNumber
	err = m.noteMove(m.ctx, func(tx *gorm.DB) error {
		return one(tx.Model(&model.Move{}).Where("feed_id = ? AND from_id = ? AND through = ?", m.move.FeedID, m.move.FromID, m.move.Through).Update("through", last))
	})
	if err != nil {
		return 0, err
	}
	m.move.Through = last
	return len(blocks), m.settle()
}

// insertCopy inserts a block of another shelf, which does not count yet.
func insertCopy(tx *gorm.DB, b model.Block, filter block.Words) error {
	b.ID, b.SheafID, b.WordsApart, b.Words = 0, 0, false, filter
	b.Moving, b.Merged = true, true // nothing new for those who follow
	return ingest.Insert(tx, &b)
}

// settle adds what has moved to the counts of the one shelf, and removes it from the other.
func (m *mover) settle() error {
	err := m.there(func(tx *gorm.DB) error {
		var came []model.Block
		if err := tx.Omit("payload", "words", "field_values").Where("feed_id = ? AND moving = 1 AND last_number <= ?", m.move.FeedID, m.move.Through).Find(&came).Error; err != nil || len(came) == 0 {
			return err
		}
		counts, ids := map[model.Minute]int64{}, []uint64{}
		for _, b := range came {
			ids = append(ids, b.ID)
			if err := m.count(tx, b, counts); err != nil {
				return err
			}
		}
		if err := ingest.AddCounts(tx, counts); err != nil {
			return err
		}
		return tx.Model(&model.Block{}).Where("id IN ?", ids).Update("moving", false).Error
	})
	if err != nil {
		return err
	}
	return m.change(m.from, func(tx *gorm.DB) error {
		var gone []model.Block
		if err := tx.Omit("payload", "words", "field_values").Where("feed_id = ? AND last_number <= ?", m.move.FeedID, m.move.Through).Find(&gone).Error; err != nil || len(gone) == 0 {
			return err
		}
		counts := map[model.Minute]int64{}
		for _, b := range gone {
			if err := m.count(tx, b, counts); err != nil {
				return err
			}
		}
		if err := ingest.SubtractCounts(tx, counts); err != nil {
			return err
		}
		return ingest.Remove(tx, gone)
	})
}

// count adds the records of a block to counts. One that cannot be read is not counted.
func (m *mover) count(tx *gorm.DB, b model.Block, counts map[model.Minute]int64) error {
	if b.Records == 0 {
		return nil
	}
	var failed error
	err := ingest.CountBlock(b, func() (payload []byte, err error) {
		payload, failed = ingest.Payload(tx, b.ID)
		return payload, failed
	}, counts)
	if err != nil && failed == nil {
		m.Log.Warn("a block that moves cannot be read; the counts over time are not those of its records", "block", b.ID, "why", err)
	}
	return failed
}

// handOver fences the feed, moves the rest of it, and has it live on the other shelf.
func (m *mover) handOver() error {
	var feed model.Feed
	var runs []model.FeedRun
	err := m.change(m.from, func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&feed, m.move.FeedID).Error; err != nil {
			return err
		}
		if err := tx.Model(&feed).Update("fenced", true).Error; err != nil {
			return err
		}
		return tx.Where("feed_id = ?", feed.ID).Order("id").Find(&runs).Error
	})
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = nil // it was entered, and has nothing there yet
		feed = model.Feed{}
	}
	if err != nil {
		return err
	}
	for n := moveBlocks; n > 0; {
		if n, err = m.some(); err != nil {
			return err
		}
	}
	feed.ShelfID, feed.Fenced = m.move.ToID, false
	if feed.ID > 0 && m.move.ToID != model.FirstShelf {
		if err := m.there(func(tx *gorm.DB) error { return takeOver(tx, feed, runs) }); err != nil {
			return err
		}
	}
	err = m.noteMove(m.ctx, func(tx *gorm.DB) error {
		if err := one(tx.Where("feed_id = ? AND from_id = ?", m.move.FeedID, m.move.FromID).Delete(&model.Move{})); err != nil {
			return err
		}
		if feed.ID > 0 && m.move.ToID == model.FirstShelf {
			return takeOver(tx, feed, runs)
		}
		return tx.Model(&model.Feed{}).Where("id = ?", m.move.FeedID).Updates(map[string]any{"shelf_id": m.move.ToID, "fenced": false}).Error
	})
	if err != nil || m.move.FromID == model.FirstShelf {
		return err
	}
	// What is left behind tells services that do not know yet that it has moved.
	return m.from.Model(&model.Feed{}).Where("id = ?", m.move.FeedID).Update("shelf_id", m.move.ToID).Error
}

// takeOver makes a feed and its runs what they were on another shelf.
func takeOver(tx *gorm.DB, feed model.Feed, runs []model.FeedRun) error {
	if err := tx.Save(&feed).Error; err != nil {
		return err
	}
	if err := tx.Where("feed_id = ?", feed.ID).Delete(&model.FeedRun{}).Error; err != nil || len(runs) == 0 {
		return err
	}
	for i := range runs {
		runs[i].ID = 0
	}
	return tx.Create(&runs).Error
}
