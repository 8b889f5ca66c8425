package outlet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// feedService is what a store outlet asks of the service.
type feedService interface {
	Lease(ctx context.Context, agentID, outlet, cask, generation string, asks client.Lease) (client.Leased, error)
	SendBatch(ctx context.Context, agentID, outlet, cask string, head client.BatchHead, block []byte) (client.Confirmed, error)
	Join(ctx context.Context, agentID string, j client.Join) (client.Accepted, error)
}

// storeRoad leads to a cask of the central store, as blocks of a numbered feed.
type storeRoad struct {
	service      feedService
	self         identity
	outlet, cask string
	run          string // under which it writes
	spool        *spool.Spool
	log          *slog.Logger
	host         func() string
	fileToken    func() (string, error) // the one that the plan names
	allRead      func() bool            // tells whether all files are read to their ends
	heldAgain    func(records int64)    // tells that records are held which had been delivered
	chain        chain
	mostBytes    atomic.Int64   // of a block that the store takes, 0 for as many as the plan says
	builder      *block.Builder // of the next batch, nil before its first record

	mu    sync.Mutex
	fails map[uint64]int // how often batches made the service fail, by their first number
}

// mostFails is how often a batch that makes the service fail is sent, before it is
// taken apart for the record that does it.
const mostFails = 3

// failsAgain counts that a batch has made the service fail, and tells whether that is enough.
func (s *storeRoad) failsAgain(first uint64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fails == nil {
		s.fails = map[uint64]int{}
	}
	for number := range s.fails {
		if number < first { // it has passed since
			delete(s.fails, number)
		}
	}
	s.fails[first]++
	return s.fails[first] >= mostFails
}

// builders are those that no road uses; what they have grown to is given back
// when there is nothing to send for a while.
var builders = sync.Pool{New: func() any { return new(block.Builder) }}

func (s *storeRoad) add(number uint64, r *record.Record) {
	if s.builder == nil {
		s.builder = builders.Get().(*block.Builder)
	}
	s.builder.Add(number, r)
}

func (s *storeRoad) reset()  { s.builder = nil }
func (s *storeRoad) rewind() { s.chain.rewind() }
func (s *storeRoad) close()  {}

// inFlight is how many batches may be under way: while one is committed the
// next is on its way, and another is compressed.
const inFlight = 3

func (s *storeRoad) depth() int { return inFlight }

// idleTime is after how long without a record it is asked, about, how far the store has
// the feed: it may have lost what it had.
const idleTime = 30 * time.Second

func (s *storeRoad) idle() <-chan time.Time {
	return time.After(idleTime + rand.N(idleTime/2))
}

func (s *storeRoad) atMost(bytes int) int {
	if most := int(s.mostBytes.Load()); most > 0 {
		return min(bytes, most) // it is packed, and has less then
	}
	return bytes
}

func (s *storeRoad) pack(b spool.Batch, refused bool) delivery {
	s.endDoubt()
	head := client.BatchHead{Numbers: b.Numbers, Generation: s.spool.Feed().Generation, Run: s.run, Twice: b.Twice}
	adds := client.FeedAccount{Came: int64(b.Records), Lost: int64(b.Lost)}
	if refused {
		head.Refused = b.Records
		adds.Came, adds.Refused = 0, int64(b.Records)
	}
	for _, n := range b.Shed {
		adds.Shed += int64(n)
	}
	builder := s.builder
	s.builder = nil
	before, own := s.chain.add(adds)
	return func(ctx context.Context) (uint64, error) {
		var payload []byte
		if builder != nil {
			payload = builder.Finish(nil)
			builders.Put(builder)
		}
		head.Hash = hashOf(payload)
		var err error
		if head.Previous, err = before.wait(ctx); err != nil {
			return 0, err
		}
		own.set(client.LinkOf(head.Previous, head))
		return s.send(ctx, head, payload)
	}
}

func (s *storeRoad) send(ctx context.Context, head client.BatchHead, payload []byte) (uint64, error) {
	answer, err := s.service.SendBatch(ctx, s.self.AgentID(), s.outlet, s.cask, head, payload)
	if err == nil {
		s.compare(answer)
	}
	var problem *client.Problem
	if !errors.As(err, &problem) {
		return answer.Confirmed, err
	}
	switch {
	case problem.Expected > 0, problem.Lease:
		err = errElsewhere
	case problem.Fault && s.failsAgain(head.First):
		err = &badBatch{problem}
	case problem.Status == http.StatusRequestEntityTooLarge, problem.Status == http.StatusUnprocessableEntity:
		err = &badBatch{problem}
	}
	return answer.Confirmed, err
}

// compare compares the store's account of the feed with what was sent.
func (s *storeRoad) compare(answer client.Confirmed) {
	if differs := s.chain.confirmed(answer); differs != "" {
		s.self.AddFork(client.ForkStatus{Outlet: s.outlet, What: "the store's account of this feed is not that of the agent: " + differs, Mend: "look for what else writes into the database: oakbarrel store check"})
	}
}

func hashOf(payload []byte) string {
	sum := sha256.Sum256(payload)
	return hex.EncodeToString(sum[:])
}
