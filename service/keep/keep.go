// Package keep puts the store in order, at low priority and in small transactions: it
// removes what its casks are not to keep any longer, whole blocks, the oldest first,
// merges small blocks into larger ones, and binds the filters of those that stay.
//
// A [Keeper] has a goroutine of its own. Of several services before one database one
// keeps at a time.
package keep

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/service/guard"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

const (
	pause     = time.Minute     // between two looks
	lookTime  = 2 * time.Second // between two looks for new shelves
	together  = 8               // blocks that one transaction removes
	jump      = time.Hour       // by which a clock may be ahead of what was seen of it
	settling  = time.Hour       // for which a clock that has jumped is not believed
	leaseTime = time.Minute     // for which one service does it, counted from its last step
)

// Keeper keeps a shelf in order. One service of those before a database does so at a time.
type Keeper struct {
	Shelves *shelf.Set
	Shelf   *shelf.Shelf
	Log     *slog.Logger
	Now     func() time.Time
	Holder  string // tells this service apart from others

	described *span     // blocks that are looked through for such as nothing is told of
	forgot    time.Time // when shapes were last removed

	adopted bool      // the first shelf knows all feeds of this one
	toDrain bool      // it was seen that the shelf is to be drained
	doubted time.Time // since when the clock is not believed, zero where it is
	seen    time.Time // when the clock was last looked at; with a monotonic reading
}

// All has each shelf kept by a Keeper of its own, like the one given, until ctx ends.
func All(ctx context.Context, shelves *shelf.Set, like Keeper) {
	kept := map[*shelf.Shelf]bool{}
	for ctx.Err() == nil {
		for _, of := range shelves.All() {
			if !kept[of] {
				kept[of] = true
				k := like
				k.Shelves, k.Shelf = shelves, of
				go k.Run(ctx)
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookTime):
		}
	}
}

// Run keeps order from time to time, until ctx ends, or the shelf is another database.
func (p *Keeper) Run(ctx context.Context) {
	for ctx.Err() == nil && p.Shelves.Of(p.Shelf.ID) == p.Shelf {
		var away *shelf.Away
		var more bool
		err := guard.Run(func() (err error) {
			more, err = p.Once(ctx)
			return err
		})
		if err != nil && ctx.Err() == nil && !errors.As(err, &away) {
			p.Log.Warn("the store cannot be put in order now", "shelf", p.Shelf.Name(), "why", err)
		}
		if more {
			continue
		}
		for wait := time.Now(); time.Since(wait) < pause && ctx.Err() == nil && !p.isToDrain(); {
			select {
			case <-ctx.Done():
			case <-time.After(lookTime):
			}
		}
	}
}

// isToDrain tells whether a shelf is to be drained, and was not looked at since that was said.
func (p *Keeper) isToDrain() bool {
	drains := p.Shelf.Row().Drains
	news := drains && !p.toDrain
	p.toDrain = drains
	return news
}

// Once removes, merges, binds and moves what is to be now, and tells whether there is more to do.
func (p *Keeper) Once(ctx context.Context) (more bool, err error) {
	db, err := p.Shelf.DB(ctx)
	if err != nil {
		return false, err
	}
	if mine, err := p.lease().Take(db); err != nil || !mine {
		return false, err // another service does it
	}
	if err := p.adopt(ctx); err != nil {
		return false, err
	}
	byAge, err := p.trustsClock(db)
	if err != nil {
		return false, err
	}
	var casks []model.Cask
	if err := p.Shelves.First(ctx).Find(&casks).Error; err != nil {
		return false, err
	}
	for _, c := range casks {
		if err := p.trim(db, c, byAge); err != nil {
			return false, fmt.Errorf("cask %s: %w", c.Name, err)
		}
	}
	toMerge, err := p.merge(ctx, db)
	if err != nil {
		return false, err
	}
	toBind, err := p.bind(db, casks)
	if err != nil {
		return false, err
	}
	toDescribe, err := p.describe(db)
	if err != nil {
		return false, err
	}
	if err := p.forget(db, casks); err != nil {
		return false, err
	}
	toMove, err := p.drain(ctx, db)
	return toMerge || toBind || toDescribe || toMove, err
}

// adopt has the first shelf know all feeds of this one, once: it may have been restored
// from an older copy before the service was started.
func (p *Keeper) adopt(ctx context.Context) error {
	if p.adopted {
		return nil
	}
	adopted, taken, err := p.Shelves.Adopt(ctx, p.Shelf)
	if adopted+taken > 0 {
		p.Log.Warn("feeds live on a shelf that the first one did not know", "shelf", p.Shelf.Name(), "taken over", adopted, "not, as others have their numbers", taken)
	}
	p.adopted = err == nil
	return err
}

// lease is the right to keep order.
func (p *Keeper) lease() model.Lease {
	return model.Lease{Job: "keep", Holder: p.Holder, For: leaseTime}
}

// change is a transaction that holds only where this service keeps order still.
func (p *Keeper) change(db *gorm.DB, do func(tx *gorm.DB) error) error {
	return p.lease().Change(db, do)
}

// trustsClock tells whether ages may be told by the clock. One that is far
// ahead of where it was seen last may be wrong; what it would remove is gone
// for good, so it has to be there for a while.
func (p *Keeper) trustsClock(db *gorm.DB) (bool, error) {
	now := p.Now()
	if err := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&model.Clock{ID: 1, Seen: now}).Error; err != nil {
		return false, err
	}
	var last model.Clock
	if err := db.Take(&last, 1).Error; err != nil {
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

// trimTotal removes the oldest blocks until the rest is not more than allowed, on all
// shelves together. Of those on this shelf it removes what is not younger than the last that
// would go of all.
func (p *Keeper) trimTotal(db *gorm.DB, c model.Cask, removed *removal) error {
	total, err := totalOf(db, c)
	if err != nil {
		return err
	}
	var others []*elsewhere
	for _, of := range p.Shelves.All() {
		if of == p.Shelf {
			continue
		}
		e := &elsewhere{cask: c}
		if e.db, err = of.DB(db.Statement.Context); err == nil {
			e.total, err = totalOf(e.db, c)
		}
		if err != nil {
			p.Log.Debug("a shelf is away while a cask is to be held to its size; what it has is not counted", "shelf", of.Name(), "why", err)
			continue
		}
		total += e.total
		others = append(others, e)
	}
	for total > c.Keep.Total {
		blocks, err := p.oldest(db, c)
		if err != nil || len(blocks) == 0 {
			return err
		}
		for i, b := range blocks {
			for _, e := range others {
				older, err := e.olderThan(b.Arrived)
				if err != nil {
					return err
				}
				total -= older // its own keeper removes it
			}
			if total <= c.Keep.Total {
				blocks = blocks[:i]
				break
			}
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

func totalOf(db *gorm.DB, c model.Cask) (total int64, err error) {
	err = db.Model(&model.Block{}).Where("cask_id = ?", c.ID).Select("COALESCE(SUM(size), 0)").Scan(&total).Error
	return total, err
}

// elsewhere is what another shelf has of a cask, read from its oldest on.
type elsewhere struct {
	db    *gorm.DB
	cask  model.Cask
	total int64
	next  []model.Block
	last  model.Block // of those that were read
	all   bool        // nothing is behind them
}

// readTogether is how many blocks of another shelf are read at a time.
const readTogether = 256

// olderThan returns how many bytes came before a time, of those that were not told before.
func (e *elsewhere) olderThan(arrived int64) (bytes int64, err error) {
	for {
		for len(e.next) > 0 && e.next[0].Arrived < arrived {
			bytes += e.next[0].Size
			e.next = e.next[1:]
		}
		if len(e.next) > 0 || e.all {
			return bytes, nil
		}
		err := e.db.Select("id, arrived, size").Where("cask_id = ? AND (arrived > ? OR arrived = ? AND id > ?)", e.cask.ID, e.last.Arrived, e.last.Arrived, e.last.ID).
			Order("arrived, id").Limit(readTogether).Find(&e.next).Error
		if err != nil {
			return 0, err
		}
		if e.all = len(e.next) < readTogether; len(e.next) > 0 {
			e.last = e.next[len(e.next)-1]
		}
	}
}

// oldest returns some of the blocks that came first to a cask.
func (p *Keeper) oldest(db *gorm.DB, c model.Cask) (blocks []model.Block, err error) {
	err = db.Omit("payload", "words", "kinds", "field_values").Where("cask_id = ? AND moving = 0", c.ID).Order("arrived, id").Limit(together).Find(&blocks).Error
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
		if err := ingest.CountBlock(b, func() ([]byte, error) { return ingest.Payload(db, b.ID) }, counts); err != nil {
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
