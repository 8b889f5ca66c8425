package outlet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"log/slog"
	"net/http"
	"sync"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// feedService is what a store outlet asks of the service.
type feedService interface {
	Confirmed(ctx context.Context, agentID, outlet, cask string) (uint64, error)
	SendBatch(ctx context.Context, agentID, outlet, cask string, head client.BatchHead, block []byte) (uint64, error)
}

// storeRoad leads to a cask of the central store, as blocks of a numbered feed.
type storeRoad struct {
	service               feedService
	agentID, outlet, cask string
	log                   *slog.Logger
	builder               *block.Builder // of the next batch, nil before its first record

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

// begin asks where the feed is. Where the store has less than was confirmed
// here, what is between is told as lost: it is not here any more.
func (s *storeRoad) begin(ctx context.Context, here uint64) (uint64, error) {
	confirmed, err := s.service.Confirmed(ctx, s.agentID, s.outlet, s.cask)
	if err != nil || here <= confirmed {
		return confirmed, err
	}
	if confirmed == 0 {
		s.log.Warn("the feed is new to this store; what was delivered elsewhere before is told as lost", "outlet", s.outlet, "records", here)
	} else {
		s.log.Error("the store has lost records that it had confirmed; they are not here any more", "outlet", s.outlet, "first", confirmed+1, "last", here)
	}
	return s.send(ctx, client.BatchHead{Numbers: spool.Numbers{First: confirmed + 1, Last: here, Lost: int(here - confirmed)}}, nil)
}

func (s *storeRoad) add(number uint64, r *record.Record) {
	if s.builder == nil {
		s.builder = builders.Get().(*block.Builder)
	}
	s.builder.Add(number, r)
}

func (s *storeRoad) reset() { s.builder = nil }
func (s *storeRoad) close() {}

// inFlight is how many batches may be under way: while one is committed the
// next is on its way, and another is compressed.
const inFlight = 3

func (s *storeRoad) depth() int { return inFlight }

func (s *storeRoad) pack(b spool.Batch, refused bool) delivery {
	head := client.BatchHead{Numbers: b.Numbers}
	if refused {
		head.Refused = b.Records
	}
	builder := s.builder
	s.builder = nil
	return func(ctx context.Context) (uint64, error) {
		if builder == nil {
			return s.send(ctx, head, nil)
		}
		payload := builder.Finish(nil)
		builders.Put(builder)
		return s.send(ctx, head, payload)
	}
}

func (s *storeRoad) send(ctx context.Context, head client.BatchHead, payload []byte) (uint64, error) {
	head.Hash = hashOf(payload)
	confirmed, err := s.service.SendBatch(ctx, s.agentID, s.outlet, s.cask, head, payload)
	var problem *client.Problem
	if !errors.As(err, &problem) {
		return confirmed, err
	}
	switch {
	case problem.Expected > 0:
		err = errElsewhere
	case problem.Fault && s.failsAgain(head.First):
		err = &badBatch{problem}
	case problem.Status == http.StatusRequestEntityTooLarge, problem.Status == http.StatusUnprocessableEntity:
		err = &badBatch{problem}
	}
	return confirmed, err
}

func hashOf(payload []byte) string {
	sum := sha256.Sum256(payload)
	return hex.EncodeToString(sum[:])
}
