package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"log/slog"
	"net/http"

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
	builder               block.Builder
}

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
	return s.send(ctx, client.BatchHead{First: confirmed + 1, Last: here, Lost: int(here - confirmed)}, nil)
}

func (s *storeRoad) add(number uint64, r *record.Record) { s.builder.Add(number, r) }
func (s *storeRoad) close()                              {}

func (s *storeRoad) reset() {
	if s.builder.Len() > 0 { // what was added of a batch that could not be read whole
		s.builder = block.Builder{}
	}
}

// inFlight is how many batches may be under way: while one is committed the
// next is on its way, and another is packed.
const inFlight = 3

func (s *storeRoad) depth() int { return inFlight }

func (s *storeRoad) pack(b spool.Batch, refused bool) delivery {
	head := client.BatchHead{First: b.First, Last: b.Last, Shed: b.Shed, Lost: b.Lost}
	var payload []byte
	if refused {
		head.Refused = b.Records
	} else if b.Records > 0 {
		payload = s.builder.Finish(nil)
	}
	return func(ctx context.Context) (uint64, error) { return s.send(ctx, head, payload) }
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
	case problem.Status == http.StatusRequestEntityTooLarge, problem.Status == http.StatusUnprocessableEntity:
		err = &badBatch{problem}
	}
	return confirmed, err
}

func hashOf(payload []byte) string {
	sum := sha256.Sum256(payload)
	return hex.EncodeToString(sum[:])
}
