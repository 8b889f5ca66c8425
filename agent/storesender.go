package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/plan"
)

// feedService is what a store outlet asks of the service.
type feedService interface {
	Confirmed(ctx context.Context, agentID, outlet, cask string) (uint64, error)
	SendBatch(ctx context.Context, agentID, outlet, cask string, head client.BatchHead, block []byte) (uint64, error)
}

// backoff tells how long to wait between two tries. The time doubles from the
// first to the last, and varies, so that a thousand hosts do not come at once.
type backoff struct {
	next   time.Duration
	chance func(below time.Duration) time.Duration // returns a time from 0 to below what is given
}

const (
	firstRetry  = 250 * time.Millisecond
	lastRetry   = 30 * time.Second
	askAgain    = 100 * time.Millisecond
	refusedTime = 5 * time.Second // between tries after a refusal, so that a new token is soon seen
)

// after returns how long to wait after an error.
func (b *backoff) after(err error) time.Duration {
	var later *client.RetryLater
	if !errors.As(err, &later) {
		return refusedTime
	}
	b.next = min(max(2*b.next, firstRetry), lastRetry)
	return max(later.After, b.next/2+b.chance(b.next))
}

func (b *backoff) reset() { b.next = 0 }

// send sends what is in the spool until ctx ends.
func (o *storeOutlet) send(ctx context.Context) {
	for ctx.Err() == nil {
		err := o.sendAll(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			pause(ctx, askAgain) // the plan sends it elsewhere now, or the store is elsewhere
			continue
		}
		o.mu.Lock()
		o.note(&o.sending, "the store does not take; the outlet holds what comes and tries again", err)
		o.mu.Unlock()
		pause(ctx, o.retry.after(err))
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// sendAll asks where the feed is and sends batch after batch, until one fails.
func (o *storeOutlet) sendAll(ctx context.Context) error {
	to := o.plan()
	confirmed, err := o.currentService().Confirmed(ctx, o.agentID, o.name, to.Cask)
	if err != nil {
		return err
	}
	if err := o.confirm(confirmed); err != nil {
		return err
	}
	if here := o.spool.State().Confirmed; here > confirmed {
		return o.declareLoss(ctx, to, confirmed+1, here)
	}
	o.spool.Rewind()
	for {
		s := o.plan()
		if s.Cask != to.Cask || s.Service != to.Service {
			return nil // begin again with the new one
		}
		if !o.collect(ctx, s) {
			return ctx.Err()
		}
		err := o.sendBatch(ctx, s)
		var problem *client.Problem
		if errors.As(err, &problem) && problem.Expected > 0 {
			return nil // the store is elsewhere than we thought: ask it where
		}
		if err != nil {
			return err
		}
		o.inOrder()
	}
}

// declareLoss tells the store that the records of some numbers are not here any
// more, so that the feed can go on: it had confirmed them and has lost them
// since, as a database that was restored from an older copy has.
func (o *storeOutlet) declareLoss(ctx context.Context, s plan.Store, first, last uint64) error {
	if first == 1 {
		o.log.Warn("the feed is new to this store; what was delivered elsewhere before is told as lost", "outlet", o.name, "records", last)
	} else {
		o.log.Error("the store has lost records that it had confirmed; they are not here any more", "outlet", o.name, "first", first, "last", last)
	}
	head := client.BatchHead{First: first, Last: last, Lost: int(last - first + 1), Hash: hashOf(nil)}
	_, err := o.currentService().SendBatch(ctx, o.agentID, o.name, s.Cask, head, nil)
	return err
}

func hashOf(payload []byte) string {
	sum := sha256.Sum256(payload)
	return hex.EncodeToString(sum[:])
}

// inOrder notes that the store takes what is sent.
func (o *storeOutlet) inOrder() {
	o.retry.reset()
	o.mu.Lock()
	defer o.mu.Unlock()
	o.note(&o.sending, "", nil)
}

func (o *storeOutlet) plan() plan.Store {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.settings
}

func (o *storeOutlet) currentService() feedService {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.service
}

// collect waits until there is something to send, and then for more, as the
// plan's batch says. It returns false where ctx ends.
func (o *storeOutlet) collect(ctx context.Context, s plan.Store) bool {
	for o.spool.State().Written == o.spool.Reading()-1 {
		o.inOrder() // all that there is has been sent
		select {
		case <-o.flushed:
		case <-ctx.Done():
			return false
		}
	}
	deadline := time.After(s.Delay)
	for o.spool.State().Held < int64(s.Records) {
		select {
		case <-o.flushed:
		case <-deadline:
			return true
		case <-ctx.Done():
			return false
		}
	}
	return true
}

// sendBatch reads a batch, packs it, sends it, and forgets it once it is confirmed.
func (o *storeOutlet) sendBatch(ctx context.Context, s plan.Store) error {
	b, err := o.spool.Read(s.Records, s.Bytes, o.builder.Add)
	if err != nil {
		o.builder = block.Builder{} // what was read of the batch will be read again
	}
	if err != nil || b.Last < b.First {
		return err
	}
	head := client.BatchHead{First: b.First, Last: b.Last, Shed: b.Shed, Lost: b.Lost}
	var payload []byte
	if b.Records > 0 {
		payload = o.builder.Finish(nil)
	}
	head.Hash = hashOf(payload)
	confirmed, err := o.currentService().SendBatch(ctx, o.agentID, o.name, s.Cask, head, payload)
	if err != nil {
		return err
	}
	o.mu.Lock()
	o.lastWrite = time.Now()
	o.mu.Unlock()
	err = o.confirm(confirmed)
	o.delivered()
	return err
}

func (o *storeOutlet) confirm(number uint64) error {
	if written := o.spool.State().Written; number > written {
		return fmt.Errorf("the store has records of this outlet up to number %d, but here only %d were written: the state folder is an older copy, or another agent uses a copy of it; give the agent a new one", number, written)
	}
	err := o.spool.Confirm(number)
	o.makeRoom()
	return err
}
