package search

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"runtime"
	"sync"
	"time"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/service/model"
)

// head is what is known of a block without opening it.
type head struct {
	ID, FeedID          uint64
	FirstNumber         uint64
	LastNumber          uint64
	FirstTime, LastTime int64
	Records             int
	WordsApart          bool
	Twice               bool // its records may be in another block too
	Moving              bool // it has come from another shelf, and does not count there yet

	shelf uint32
	asked bool   // its filter was, and does not rule a hit out
	agent *agent // that took its records in, nil where it is not known
}

// opened is a block being opened: ready is closed once found or err is there.
type opened[T any] struct {
	head  head
	ready chan struct{}
	found T
	err   error
}

// A search opens quickBlocks at once, where it wants no more than quickRecords. Those
// that need or want more share half of the cores for the others, so that those who
// write, and who want little, have theirs.
const (
	quickBlocks  = 64
	quickRecords = 20_000
)

// eachBlock opens the blocks that may hold a hit, as many at a time as there
// are processors, and gives what find returns of each to use, in the order of
// heads, beside the head of the next, until use returns false.
func eachBlock[T any](ctx context.Context, s *Store, q *Query, heads []head, find func(head, *block.Block) (T, error), use func(found T, next *head) (bool, error)) error {
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	defer running.Wait()
	defer cancel()
	pick, stop := iter.Pull2(s.picked(ctx, q, heads))
	defer stop()
	var ahead []*opened[T]
	started := 0
	h, err, more := pick()
	for {
		for more && err == nil && len(ahead) < runtime.GOMAXPROCS(0) && !enough(q, ahead, h) {
			o := &opened[T]{head: h, ready: make(chan struct{})}
			ahead = append(ahead, o)
			started++
			patient := started > quickBlocks || q.Limit > quickRecords
			running.Go(func() {
				defer close(o.ready)
				if patient {
					s.patient <- struct{}{}
					defer func() { <-s.patient }()
					defer s.giveWay(ctx, time.Now())
				}
				o.found, o.err = open(ctx, s, q, o.head, find)
			})
			h, err, more = pick()
		}
		if err != nil || len(ahead) == 0 {
			return err
		}
		o := ahead[0]
		ahead = ahead[1:]
		<-o.ready
		if o.err != nil {
			return o.err
		}
		var next *head
		if len(ahead) > 0 {
			next = &ahead[0].head
		} else if more {
			next = &h
		}
		if goOn, err := use(o.found, next); err != nil || !goOn {
			return err
		}
	}
}

// giveWay lets those who write go first, for nine times as long as a long search has taken.
func (s *Store) giveWay(ctx context.Context, began time.Time) {
	if s.Busy == nil || !s.Busy() {
		return
	}
	select {
	case <-time.After(min(9*time.Since(began), 2*time.Second)):
	case <-ctx.Done():
	}
}

// enough tells whether the blocks being opened surely have as many hits before
// the next block as are wanted, so that it need not be opened yet.
func enough[T any](q *Query, ahead []*opened[T], next head) bool {
	records := 0
	for _, o := range ahead {
		if q.Condition == nil && q.wholly(o.head) && q.before(q.end(o.head), q.bound(next)) {
			records += o.head.Records
		}
	}
	return records > 0 && records >= q.Limit && q.Limit > 0
}

// open opens a block and finds in it, unless its texts rule a hit out.
func open[T any](ctx context.Context, s *Store, q *Query, h head, find func(head, *block.Block) (T, error)) (found T, err error) {
	k, known := s.blocks.lookUp(h)
	b := k.block
	if !known {
		if b, err = s.unpack(ctx, h); b == nil && err == nil {
			return found, nil
		}
	}
	possible := true
	if err == nil && q.Condition != nil {
		var texts []byte
		texts, err = b.Texts()
		possible = q.Condition.Possible(unpacked{texts})
	}
	if err == nil && ctx.Err() == nil && possible {
		found, err = find(h, b)
	}
	if errors.Is(err, block.ErrDamaged) && q.Damaged != nil {
		q.Damaged(h.ID, err)
		var none T
		return none, nil
	}
	if err != nil {
		var none T
		return none, s.lacks(ctx, s.shelves.Of(h.shelf), q, fmt.Errorf("block %d: %w", h.ID, err))
	}
	s.blocks.put(h, kept{b, b.Size()})
	return found, ctx.Err()
}

// unpack fetches a block and unpacks it, nil where it is gone.
func (s *Store) unpack(ctx context.Context, h head) (*block.Block, error) {
	payload, err := s.payload(ctx, h.shelf, "id = ?", h.ID)
	if err == nil && payload == nil { // it was merged with others meanwhile, or its cask has let go of it, or it has moved
		const same = "feed_id = ? AND first_number <= ? AND last_number >= ?"
		payload, err = s.payload(ctx, h.shelf, same, h.FeedID, h.FirstNumber, h.LastNumber)
		for _, of := range s.shelves.All() {
			if err == nil && payload == nil && of.ID != h.shelf {
				payload, err = s.payload(ctx, of.ID, same, h.FeedID, h.FirstNumber, h.LastNumber)
			}
		}
	}
	if err != nil || payload == nil {
		return nil, err
	}
	return block.Open(payload)
}

// payload fetches a block of a shelf, nil where there is none.
func (s *Store) payload(ctx context.Context, shelf uint32, where string, of ...any) ([]byte, error) {
	db, err := s.shelves.Of(shelf).DB(ctx)
	if err != nil {
		return nil, err
	}
	var row struct{ Payload []byte }
	err = db.Model(&model.Block{}).Select("payload").Where(where, of...).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return row.Payload, err
}

// unpacked is the contents of a block as its texts show them.
type unpacked struct{ texts []byte }

func (u unpacked) HasWord(uint64) bool                { return true }
func (u unpacked) HasValue(string, []byte) bool       { return true }
func (u unpacked) HasText(s *condition.Searcher) bool { return s.In(u.texts) }
