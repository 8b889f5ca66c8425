package ingest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/spool"
	"oakbarrel/service/model"
)

// mostRuns bounds the list of runs that is kept of a feed.
const mostRuns = 256

// Lease compares what an agent shows of its runs with what the store has of its feed,
// and gives the run the right to write where they fit. With asks.Look nothing is given.
func (f *Feeds) Lease(ctx context.Context, key FeedKey, asks client.Lease) (answer client.Leased, err error) {
	store, err := model.StoreID(f.shelves.First(ctx))
	if err != nil {
		return answer, err
	}
	if asks.Store != "" && asks.Store != store {
		return client.Leased{Store: store, Elsewhere: true}, nil
	}
	begins := beginning(key, asks, store)
	err = f.onShelf(ctx, key, func() (model.Feed, bool) { return begins, !asks.Look }, func(db *gorm.DB, shelf uint32, id uint64) error {
		return model.Transact(db, func(tx *gorm.DB) error {
			answer = client.Leased{Store: store}
			feed, known, err := findFeed(tx, key)
			if err != nil {
				return err
			}
			if known && !livesHere(feed, shelf) {
				return ErrMoved
			}
			if !known || isNew(feed) {
				return begin(tx, place{id, shelf}, begins, asks, &answer)
			}
			return compare(tx, feed, asks, &answer)
		})
	})
	if errors.Is(err, errNone) { // and it is only looked
		return client.Leased{Store: store, Confirmed: begins.Confirmed, Account: accountOf(begins)}, nil
	}
	if err == nil && !asks.Look && answer.Fork == nil && asks.Store != "" {
		answer.Gone, err = f.declareGone(ctx, key, asks.Older)
	}
	return answer, err
}

// isNew tells whether a feed was entered, and no run was given its lease yet.
func isNew(feed model.Feed) bool {
	return feed.Run == "" && feed.Link == "" && feed.Confirmed == feed.Base
}

// begin begins a feed, and gives its first run the lease. There is nothing to compare.
func begin(tx *gorm.DB, at place, feed model.Feed, asks client.Lease, answer *client.Leased) error {
	answer.Confirmed, answer.Account = feed.Confirmed, accountOf(feed)
	if asks.Look {
		return nil
	}
	feed.ID, feed.ShelfID = at.id, at.shelf
	if err := tx.Save(&feed).Error; err != nil {
		return err
	}
	return grant(tx, feed, asks)
}

// beginning returns a feed that is new to the store. What was delivered to it before, and
// is not here, the database has lost; what was delivered elsewhere is not missed.
func beginning(key FeedKey, asks client.Lease, store string) model.Feed {
	feed := key.feed()
	feed.Base, feed.Confirmed = asks.Confirmed, asks.Confirmed
	if asks.Store == store {
		feed.Base, feed.Confirmed = asks.Base, asks.Base
	}
	return feed
}

// compare finds out whether the agent's folder is the one that the store knows.
func compare(tx *gorm.DB, feed model.Feed, asks client.Lease, answer *client.Leased) error {
	answer.Confirmed, answer.Link, answer.Account = feed.Confirmed, feed.Link, accountOf(feed)
	var runs []model.FeedRun
	if err := tx.Where("feed_id = ?", feed.ID).Order("id").Find(&runs).Error; err != nil {
		return err
	}
	answer.Fork = forkOf(runs, feed, asks)
	if answer.Fork != nil || asks.Look {
		return nil
	}
	if feed.Run == asks.Run {
		return nil
	}
	return grant(tx, feed, asks)
}

// declareGone declares what older generations of a feed had, and have no more, as lost:
// the database was set back, and no agent sends it any more.
func (f *Feeds) declareGone(ctx context.Context, key FeedKey, older []client.Older) (gone []client.Gone, err error) {
	for _, o := range older {
		if o.Generation == key.Generation || o.Last > mostNumber || o.Base > o.Last {
			continue
		}
		of := key
		of.Generation = o.Generation
		begins := of.feed()
		begins.Base, begins.Confirmed = o.Base, o.Base
		var lost *client.Gone
		err := f.onShelf(ctx, of, func() (model.Feed, bool) { return begins, o.Base < o.Last }, func(db *gorm.DB, shelf uint32, id uint64) error {
			return model.Transact(db, func(tx *gorm.DB) (err error) {
				lost, err = declareLost(tx, shelf, id, begins, o.Last)
				return err
			})
		})
		if err != nil && !errors.Is(err, errNone) {
			return nil, err
		}
		if lost != nil {
			gone = append(gone, *lost)
		}
	}
	return gone, nil
}

// declareLost declares what a feed has not up to a number as lost, nil where it has all.
func declareLost(tx *gorm.DB, shelf uint32, id uint64, begins model.Feed, last uint64) (*client.Gone, error) {
	feed, known, err := findFeed(tx, keyOf(begins))
	if err != nil {
		return nil, err
	}
	if known && !livesHere(feed, shelf) {
		return nil, ErrMoved
	}
	if !known {
		feed = begins
		feed.ID, feed.ShelfID = id, shelf
		if err := tx.Create(&feed).Error; err != nil {
			return nil, err
		}
	}
	if feed.Confirmed >= last {
		return nil, nil
	}
	gone := &client.Gone{Generation: feed.Generation, First: feed.Confirmed + 1, Last: last}
	b := Batch{FeedKey: FeedKey{CaskID: feed.CaskID}, Numbers: spool.Numbers{First: feed.Confirmed + 1, Last: last, Lost: int(last - feed.Confirmed)}, Hash: sha256.Sum256(nil)}
	row := b.Row(feed.ID)
	if err := Insert(tx, &row); err != nil {
		return nil, err
	}
	link := client.LinkOf(feed.Link, client.BatchHead{Numbers: b.Numbers, Hash: hex.EncodeToString(b.Hash[:])})
	return gone, tx.Model(&feed).Updates(map[string]any{"confirmed": last, "link": link, "lost": feed.Lost + int64(b.Lost)}).Error
}

// forkOf tells where the agent's numbers and those of the store part, nil where they
// do not: behind the newest run that both know, with the first number that either has
// given out since.
func forkOf(runs []model.FeedRun, feed model.Feed, asks client.Lease) *client.Fork {
	if feed.Run == asks.Run {
		return nil
	}
	newest := len(runs) - 1
	common, own := newest, asks.First
	for ; common >= 0; common-- {
		if at := slices.IndexFunc(asks.Runs, func(r spool.Run) bool { return r.ID == runs[common].Run }); at >= 0 {
			if own = math.MaxUint64; at+1 < len(asks.Runs) { // else it is this very run
				own = asks.Runs[at+1].First
			}
			break
		}
	}
	switch {
	case newest < 0 && feed.Confirmed < own:
		return nil
	case newest < 0:
		return &client.Fork{Last: own - 1, Confirmed: feed.Confirmed, SameMachine: true}
	case common == newest && feed.Confirmed < own:
		return nil
	}
	f := &client.Fork{Last: own - 1, Confirmed: feed.Confirmed, Run: runs[newest].Run, Since: runs[newest].Granted, SameMachine: runs[newest].Machine == asks.Machine}
	if common < newest {
		f.Since = runs[common+1].Granted
		f.Held = runs[common+1].First - 1
		f.Last = min(f.Last, f.Held)
	}
	if common < 0 {
		f.Last = feed.Base
	}
	return f
}

// grant gives a run the lease of a feed: from now on it alone may write.
func grant(tx *gorm.DB, feed model.Feed, asks client.Lease) error {
	run := model.FeedRun{FeedID: feed.ID, Run: asks.Run, First: asks.First, Machine: asks.Machine, Granted: time.Now()}
	if err := tx.Create(&run).Error; err != nil {
		return err
	}
	if err := tx.Exec("DELETE FROM feed_runs WHERE feed_id = ? AND id <= (SELECT id FROM (SELECT id FROM feed_runs WHERE feed_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?) AS old)", feed.ID, feed.ID, mostRuns).Error; err != nil {
		return err
	}
	return tx.Model(&feed).Update("run", asks.Run).Error
}

// mostFeeds bounds the feeds of one agent: each is a row for ever, and who has its token
// may name outlets without number.
const mostFeeds = 1000

// ErrTooManyFeeds says that an agent has as many feeds as it may have.
var ErrTooManyFeeds = fmt.Errorf("this agent has %d feeds, and may have no more", mostFeeds)

func mayHaveMore(tx *gorm.DB, key FeedKey) error {
	var feeds int64
	err := tx.Model(&model.Feed{}).Where("agent_id = ?", key.AgentID).Count(&feeds).Error
	if err == nil && feeds >= mostFeeds {
		err = ErrTooManyFeeds
	}
	return err
}

// FeedKey is what tells feeds apart.
type FeedKey struct {
	CaskID                      uint64
	AgentID, Outlet, Generation string
}

// feed returns a feed that has nothing yet.
func (k FeedKey) feed() model.Feed {
	return model.Feed{CaskID: k.CaskID, AgentID: k.AgentID, Outlet: k.Outlet, Generation: k.Generation}
}

func keyOf(f model.Feed) FeedKey { return FeedKey{f.CaskID, f.AgentID, f.Outlet, f.Generation} }

// of looks for the feed alone.
func (k FeedKey) of(db *gorm.DB) *gorm.DB {
	return db.Where("cask_id = ? AND agent_id = ? AND outlet = ? AND generation = ?", k.CaskID, k.AgentID, k.Outlet, k.Generation)
}

// findFeed returns a feed, and keeps others from changing it until the transaction ends.
func findFeed(tx *gorm.DB, key FeedKey) (feed model.Feed, known bool, err error) {
	err = key.of(tx.Clauses(clause.Locking{Strength: "UPDATE"})).Take(&feed).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return feed, false, nil
	}
	return feed, err == nil, err
}

// lockFeed is findFeed for a batch, which makes the feed on its shelf where it is new there,
// and the batch is not of a run: a run gets a lease first, which tells with what number the
// feed begins.
func lockFeed(tx *gorm.DB, shelf uint32, b *Batch) (feed model.Feed, err error) {
	feed, known, err := findFeed(tx, b.FeedKey)
	switch {
	case err != nil:
		return feed, err
	case known && !livesHere(feed, shelf):
		return feed, ErrMoved
	case known:
		return feed, nil
	case b.Run != "":
		return feed, ErrLease
	}
	begins := b.FeedKey.feed()
	begins.ID, begins.ShelfID = b.feedID, shelf
	if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&begins).Error; err != nil {
		return feed, err
	}
	feed, _, err = findFeed(tx, b.FeedKey)
	return feed, err
}

// livesHere tells whether a feed takes batches on a shelf.
func livesHere(feed model.Feed, shelf uint32) bool { return feed.ShelfID == shelf && !feed.Fenced }

func accountOf(f model.Feed) client.FeedAccount {
	return client.FeedAccount{Base: f.Base, Came: f.Came, Shed: f.Shed, Lost: f.Lost, Refused: f.Refused}
}
