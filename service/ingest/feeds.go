package ingest

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// Feeds takes batches into the shelves that their feeds live on. Which one that is stands in
// the first database; what is remembered of it is only a hint, as the shelf itself refuses
// what moved. It may be used by several goroutines at a time.
type Feeds struct {
	shelves *shelf.Set
	ctx     context.Context
	commits func(casks []uint64)

	mu     sync.Mutex
	queues map[uint32]*Queue
	places map[FeedKey]place
}

// place is where a feed lives, and its number.
type place struct {
	id    uint64
	shelf uint32
}

// mostPlaces bounds what is remembered of where feeds live.
const mostPlaces = 200_000

// NewFeeds returns what takes batches until ctx ends. After each commit it calls commits
// with the casks that have grown.
func NewFeeds(ctx context.Context, shelves *shelf.Set, commits func(casks []uint64)) *Feeds {
	return &Feeds{shelves: shelves, ctx: ctx, commits: commits, queues: map[uint32]*Queue{}, places: map[FeedKey]place{}}
}

// ErrMoved says that a feed lives on another shelf by now, or is on its way there.
var ErrMoved = errors.New("the feed moves to another shelf")

// errNone says that a feed is not known, and is not to be made.
var errNone = errors.New("the feed is not known")

// For how long a feed that moves is waited for.
const (
	moveTime  = 5 * time.Second
	movePause = 50 * time.Millisecond
)

// queue returns the queue of a shelf.
func (f *Feeds) queue(id uint32) *Queue {
	f.mu.Lock()
	defer f.mu.Unlock()
	q := f.queues[id]
	if q == nil {
		q = newQueue(f.ctx, f.shelves, id, f.commits)
		f.queues[id] = q
	}
	return q
}

// Beat has what commits into the first shelf call beat each so often, until ctx ends: while
// it does its work.
func (f *Feeds) Beat(ctx context.Context, every time.Duration, beat func()) {
	f.queue(model.FirstShelf).Beat(ctx, every, beat)
}

// Away tells whether the shelf of a feed is away, so that nothing of it need be read. The
// error is one of the database, or a [shelf.Away]. The name is that of the shelf, "" where
// the feed is new.
func (f *Feeds) Away(ctx context.Context, key FeedKey) (name string, err error) {
	at, err := f.place(ctx, key, noFeed)
	if errors.Is(err, errNone) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	of := f.shelves.Of(at.shelf)
	_, err = of.DB(ctx)
	return of.Name(), err
}

func noFeed() (model.Feed, bool) { return model.Feed{}, false }

// Take commits a batch and returns the last number of its feed that is committed. When it
// returns without an error, the batch is in the database.
func (f *Feeds) Take(ctx context.Context, b *Batch) (confirmed client.Confirmed, err error) {
	begins := func() (model.Feed, bool) { return b.FeedKey.feed(), b.Run == "" }
	err = f.onShelf(ctx, b.FeedKey, begins, func(_ *gorm.DB, shelf uint32, id uint64) (err error) {
		b.feedID = id
		confirmed, err = f.queue(shelf).Take(ctx, b)
		return err
	})
	if errors.Is(err, errNone) {
		err = ErrLease
	}
	return confirmed, err
}

// Confirmed tells how far a feed is committed.
func (f *Feeds) Confirmed(ctx context.Context, key FeedKey) (confirmed client.Confirmed, err error) {
	err = f.onShelf(ctx, key, noFeed, func(db *gorm.DB, shelf uint32, _ uint64) error {
		var feed model.Feed
		err := key.of(db).Take(&feed).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			err = nil
		} else if err == nil && feed.ShelfID != shelf {
			err = ErrMoved
		}
		confirmed = confirmedOf(feed)
		return err
	})
	if errors.Is(err, errNone) {
		err = nil
	}
	return confirmed, err
}

// onShelf does something on the shelf where a feed lives, again where it has moved
// meanwhile. begins returns the feed as it begins where it is new, and whether it is to be
// made; else the error is errNone.
func (f *Feeds) onShelf(ctx context.Context, key FeedKey, begins func() (model.Feed, bool), do func(db *gorm.DB, shelf uint32, id uint64) error) error {
	for began := time.Now(); ; {
		at, err := f.place(ctx, key, begins)
		if err != nil {
			return err
		}
		db, err := f.shelves.Of(at.shelf).DB(ctx)
		if err != nil {
			return err
		}
		if err = do(db, at.shelf, at.id); !errors.Is(err, ErrMoved) || time.Since(began) > moveTime {
			return err
		}
		f.forget(key)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(movePause):
		}
	}
}

// place returns where a feed lives, which is noted in the first database where it is new.
func (f *Feeds) place(ctx context.Context, key FeedKey, begins func() (model.Feed, bool)) (at place, err error) {
	f.mu.Lock()
	at, known := f.places[key]
	f.mu.Unlock()
	if known {
		return at, nil
	}
	var feed model.Feed
	err = key.of(f.shelves.First(ctx)).Select("id", "shelf_id").Take(&feed).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		of, make := begins()
		if !make {
			return at, errNone
		}
		feed, err = f.enter(ctx, of)
	}
	if err != nil {
		return at, err
	}
	at = place{feed.ID, feed.ShelfID}
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.places) >= mostPlaces {
		clear(f.places)
	}
	f.places[key] = at
	return at, nil
}

func (f *Feeds) forget(key FeedKey) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.places, key)
}

// enter enters a new feed into the first database.
func (f *Feeds) enter(ctx context.Context, feed model.Feed) (model.Feed, error) {
	err := model.Transact(f.shelves.First(ctx), func(tx *gorm.DB) (err error) {
		if err := mayHaveMore(tx, keyOf(feed)); err != nil {
			return err
		}
		feed.ID = 0
		if feed.ShelfID, err = f.shelfFor(tx, feed.CaskID); err != nil {
			return err
		}
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&feed).Error; err != nil {
			return err
		}
		key := keyOf(feed)
		feed = model.Feed{}
		return key.of(tx.Clauses(clause.Locking{Strength: "UPDATE"})).Take(&feed).Error // another service may have been quicker
	})
	return feed, err
}

// shelfFor returns the shelf that a new feed of a cask is to live on: the one that the cask
// names, or of those with the most room the one with the fewest feeds.
func (f *Feeds) shelfFor(tx *gorm.DB, caskID uint64) (uint32, error) {
	all := f.shelves.All()
	if len(all) == 1 {
		return all[0].ID, nil
	}
	var cask model.Cask
	if err := tx.Select("shelf_id").Take(&cask, caskID).Error; err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return 0, err
	}
	feeds, err := shelf.FeedsOn(tx)
	if err != nil {
		return 0, err
	}
	best := shelf.Best(all, feeds, cask.ShelfID)
	if best == 0 {
		return 0, fmt.Errorf("no shelf takes new feeds: each is away, or drains")
	}
	return best, nil
}
