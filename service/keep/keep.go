// Package keep puts the store in order, at low priority and in small transactions: it
// removes what its casks are not to keep any longer, whole blocks, the oldest first,
// and merges small blocks into larger ones.
//
// A [Keeper] has a goroutine of its own. Of several services before one database one
// keeps at a time.
package keep

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"

	"gorm.io/gorm"

	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
)

const (
	pause     = time.Minute // between two looks
	together  = 8           // blocks that one transaction removes
	jump      = time.Hour   // by which a clock may be ahead of what was seen of it
	settling  = time.Hour   // for which a clock that has jumped is not believed
	leaseTime = time.Minute // for which one service does it, counted from its last step
)

// Keeper keeps a store in order. One service of those before a database does so at a time.
type Keeper struct {
	DB     *gorm.DB
	Log    *slog.Logger
	Now    func() time.Time
	Holder string // tells this service apart from others

	doubted time.Time // since when the clock is not believed, zero where it is
	seen    time.Time // when the clock was last looked at; with a monotonic reading
}

// Run keeps order from time to time, until ctx ends.
func (p *Keeper) Run(ctx context.Context) {
	for ctx.Err() == nil {
		if err := p.guarded(ctx); err != nil && ctx.Err() == nil {
			p.Log.Warn("the store cannot be put in order now", "why", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// guarded is Once, of which a panic is an error.
func (p *Keeper) guarded(ctx context.Context) (err error) {
	defer func() {
		if what := recover(); what != nil {
			err = fmt.Errorf("a fault of the service: %v at %s", what, debug.Stack())
		}
	}()
	return p.Once(ctx)
}

// Once removes and merges what is to be now.
func (p *Keeper) Once(ctx context.Context) error {
	db := p.DB.WithContext(ctx)
	if mine, err := p.lease().Take(db); err != nil || !mine {
		return err // another service does it
	}
	byAge, err := p.trustsClock(db)
	if err != nil {
		return err
	}
	var casks []model.Cask
	if err := db.Find(&casks).Error; err != nil {
		return err
	}
	for _, c := range casks {
		if err := p.trim(db, c, byAge); err != nil {
			return fmt.Errorf("cask %s: %w", c.Name, err)
		}
	}
	return p.merge(db)
}

// lease is the right to keep order.
func (p *Keeper) lease() model.Lease {
	return model.Lease{Job: "keep", Holder: p.Holder, For: leaseTime}
}

// change is a transaction that holds only where this service keeps order still.
func (p *Keeper) change(db *gorm.DB, do func(tx *gorm.DB) error) error {
	return model.Transact(db, func(tx *gorm.DB) error {
		if err := p.lease().Keep(tx); err != nil {
			return err
		}
		return do(tx)
	})
}

// trustsClock tells whether ages may be told by the clock. One that is far
// ahead of where it was seen last may be wrong; what it would remove is gone
// for good, so it has to be there for a while.
func (p *Keeper) trustsClock(db *gorm.DB) (bool, error) {
	now := p.Now()
	last := model.Clock{ID: 1, Seen: now}
	if err := db.FirstOrCreate(&last, model.Clock{ID: 1}).Error; err != nil {
		return false, err
	}
	expected := last.Seen
	if !p.seen.IsZero() {
		expected = p.seen.Round(0).Add(now.Sub(p.seen)) // by the monotonic clock, which does not jump
	}
	switch ahead := now.Round(0).Sub(expected); {
	case ahead > jump:
		p.Log.Warn("the clock is ahead of where it was; nothing is removed by age for a while", "ahead", ahead.Round(time.Second).String())
		p.doubted = now
	case !p.doubted.IsZero() && now.Sub(p.doubted) > settling:
		p.doubted = time.Time{}
	}
	p.seen = now
	return p.doubted.IsZero(), db.Save(&model.Clock{ID: 1, Seen: now}).Error
}

// trim removes what a cask is not to keep.
func (p *Keeper) trim(db *gorm.DB, c model.Cask, byAge bool) error {
	days := c.Keep.DaysAtMost
	if !c.Keep.Held && c.Keep.Days > 0 && (days == 0 || c.Keep.Days < days) {
		days = c.Keep.Days
	}
	removed := removal{}
	if days > 0 && byAge {
		before := p.Now().AddDate(0, 0, -days).UnixMicro()
		for more := true; more; {
			blocks, err := p.oldest(db.Where("arrived < ?", before), c)
			if err != nil {
				return err
			}
			if more, err = len(blocks) > 0, p.remove(db, c, blocks, &removed); err != nil {
				return err
			}
		}
	}
	if !c.Keep.Held && c.Keep.Total > 0 {
		if err := p.trimTotal(db, c, &removed); err != nil {
			return err
		}
	}
	if removed.blocks > 0 {
		p.Log.Info("removed what the cask is not to keep", "cask", c.Name, "blocks", removed.blocks, "records", removed.records, "bytes", removed.bytes)
	}
	return nil
}

// removal is what was removed.
type removal struct {
	blocks         int
	records, bytes int64
}

// trimTotal removes the oldest blocks until the rest is not more than allowed.
func (p *Keeper) trimTotal(db *gorm.DB, c model.Cask, removed *removal) error {
	var total int64
	if err := db.Model(&model.Block{}).Where("cask_id = ?", c.ID).Select("COALESCE(SUM(size), 0)").Scan(&total).Error; err != nil {
		return err
	}
	for total > c.Keep.Total {
		blocks, err := p.oldest(db, c)
		if err != nil || len(blocks) == 0 {
			return err
		}
		for i, b := range blocks {
			if total -= b.Size; total <= c.Keep.Total {
				blocks = blocks[:i+1]
				break
			}
		}
		if err := p.remove(db, c, blocks, removed); err != nil {
			return err
		}
	}
	return nil
}

// oldest returns some of the blocks that came first to a cask.
func (p *Keeper) oldest(db *gorm.DB, c model.Cask) (blocks []model.Block, err error) {
	err = db.Omit("payload", "words").Where("cask_id = ?", c.ID).Order("arrived, id").Limit(together).Find(&blocks).Error
	return blocks, err
}

// remove removes blocks, and takes their records out of the counts by minute.
func (p *Keeper) remove(db *gorm.DB, c model.Cask, blocks []model.Block, removed *removal) error {
	if len(blocks) == 0 {
		return nil
	}
	counts := map[model.Minute]int64{}
	for _, b := range blocks {
		removed.blocks++
		removed.records += int64(b.Records)
		removed.bytes += b.Size
		if b.Records == 0 {
			continue
		}
		payload := func() ([]byte, error) {
			var of model.Block
			err := db.Select("payload").Take(&of, b.ID).Error
			return of.Payload, err
		}
		if err := ingest.CountBlock(b, payload, counts); err != nil {
			p.Log.Warn("a block that is removed cannot be read; its records stay in the counts over time", "cask", c.Name, "block", b.ID, "why", err)
		}
	}
	return p.change(db, func(tx *gorm.DB) error {
		if err := ingest.SubtractCounts(tx, counts); err != nil {
			return err
		}
		return ingest.Remove(tx, blocks)
	})
}
