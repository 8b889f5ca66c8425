package outlet

import (
	"context"
	"errors"
	"fmt"
	"time"

	"oakbarrel/agent/credential"
	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// road carries records from a spool to another side. It is for one goroutine.
type road interface {
	// begin finds out up to which number the other side has the feed. Where it
	// cannot tell that is here.
	begin(ctx context.Context, here uint64) (confirmed uint64, err error)
	// add makes a record part of the next batch, and keeps nothing of it.
	add(number uint64, r *record.Record)
	// reset forgets what was added.
	reset()
	// rewind has the next batch follow what is confirmed: what was packed since was refused.
	rewind()
	// pack makes a delivery of what was added, as the batch b. refused says that
	// its one record is left out because it was refused. The delivery sends, and
	// returns up to which number the other side has the feed then.
	pack(b spool.Batch, refused bool) delivery
	// atMost returns how many bytes of records a batch may have, of so many that the plan allows.
	atMost(bytes int) int
	// idle returns what tells, while nothing comes, that it is time to begin again; nil for never.
	idle() <-chan time.Time
	// depth is how many deliveries may be under way at a time.
	depth() int
	// close ends what is open.
	close()
}

// plainRoad is the part of a road whose other side keeps no account of what it has.
type plainRoad struct{}

func (plainRoad) rewind()                {}
func (plainRoad) atMost(bytes int) int   { return bytes }
func (plainRoad) idle() <-chan time.Time { return nil }

// delivery sends a batch. It may run beside the packing of the next where depth allows it.
type delivery func(ctx context.Context) (confirmed uint64, err error)

// errElsewhere says that the other side has another number than we thought.
var errElsewhere = errors.New("the feed goes on at another number")

// badBatch says that the other side does not take what is in a batch, and never will.
type badBatch struct{ why error }

func (e *badBatch) Error() string { return e.why.Error() }

// roadTo returns the road to where an outlet sends what is in its spool.
func (a *Agent) roadTo(s plan.Outlet, o *Spool) (road, error) {
	switch s.Kind {
	case plan.SyslogOutlet:
		return newSyslogRoad(s.Remote)
	case plan.OTLPOutlet, plan.HTTPOutlet:
		return newWebRoad(s, a.State.AgentID(), a.HostName)
	case plan.StdoutOutlet:
		return newStdoutRoad(s.Format, a.HostName), nil
	case plan.NotifyOutlet:
		return newNoticeRoad(s, a.HostName, a.Told.add), nil
	}
	if to, err := a.roadHere(s); to != nil || err != nil {
		return to, err
	}
	service, err := credential.Client(s.Store.Service, a.State.TokenFor)
	if err != nil {
		return nil, fmt.Errorf("the service cannot be asked: %w", err)
	}
	return &storeRoad{service: service, self: a.State, outlet: s.Name, cask: s.Store.Cask, run: a.State.Run(), spool: o.spool, log: a.Log, host: a.HostName, heldAgain: o.holdAgain, allRead: a.AllRead,
		fileToken: func() (string, error) { return credential.Token(s.Store.Service.TokenFile) }}, nil
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
func (o *Spool) send(ctx context.Context) {
	for ctx.Err() == nil {
		if until := o.paused(); !until.IsZero() {
			guard.Pause(ctx, min(time.Until(until), lookWhilePaused))
			continue
		}
		err := o.sendAll(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil || errors.Is(err, errElsewhere) {
			guard.Pause(ctx, askAgain) // the plan sends it elsewhere now, or the other side is elsewhere
			continue
		}
		wait := o.retry.after(err)
		o.mu.Lock()
		o.setTrouble(&o.sending, "the other side does not take; the outlet holds what comes and tries again", err)
		o.nextTry = time.Now().Add(wait)
		o.mu.Unlock()
		guard.Pause(ctx, wait)
	}
}

// sendAll asks where the feed is and sends batch after batch, until one fails.
func (o *Spool) sendAll(ctx context.Context) error {
	to, _, changes := o.current()
	defer to.close()
	confirmed, err := to.begin(ctx, o.spool.State().Confirmed)
	if err != nil {
		return err
	}
	if err := o.confirm(confirmed); err != nil {
		return err
	}
	o.spool.Rewind()
	ctx, cancel := context.WithCancel(ctx)
	var under []*underWay
	defer func() {
		cancel()
		for _, u := range under { // the road is not used any more when this returns
			<-u.done
		}
	}()
	for {
		_, s, now := o.current()
		if now != changes || !o.paused().IsZero() {
			return nil // begin again, with the new one
		}
		if len(under) < to.depth() && (len(under) == 0 || o.full(s)) {
			if len(under) == 0 {
				if err := o.collect(ctx, to, s); err != nil {
					return err
				}
			}
			if _, _, now = o.current(); now != changes || !o.paused().IsZero() {
				return nil
			}
			u, err := o.launch(ctx, to, s)
			if err != nil {
				return err
			}
			if u != nil {
				under = append(under, u)
			}
			continue
		}
		first := under[0]
		select {
		case <-first.done:
		case <-ctx.Done():
			return ctx.Err()
		case <-o.flushed: // there may be enough for another
			continue
		}
		under = under[1:]
		switch err := o.finish(ctx, to, first); {
		case errors.Is(err, errElsewhere), errors.Is(err, errAgain):
			return nil
		case err != nil:
			return err
		}
		o.inOrder()
	}
}

// lookWhilePaused is how often an outlet that is paused looks whether it goes on.
const lookWhilePaused = 250 * time.Millisecond

// errAgain says that what was read is to be read again, in other batches.
var errAgain = errors.New("read again")

// underWay is a batch that is being delivered.
type underWay struct {
	batch     spool.Batch
	confirmed uint64
	err       error
	done      chan struct{}
}

// full tells whether there is enough for a batch that has not been read.
func (o *Spool) full(s plan.Spool) bool {
	return int64(o.spool.State().Written)-int64(o.spool.Reading())+1 >= int64(o.atMost(s))
}

// current returns the road, the settings, and how often the road was changed.
func (o *Spool) current() (road, plan.Spool, int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.road, o.settings.Spool, o.changes
}

// inOrder notes that the other side takes what is sent.
func (o *Spool) inOrder() {
	o.retry.reset()
	o.mu.Lock()
	defer o.mu.Unlock()
	o.nextTry = time.Time{}
	o.setTrouble(&o.sending, "", nil)
}

// collect waits until there is something to send, and then for more, as the
// plan's batch says. The error is errElsewhere where the road is to begin again.
func (o *Spool) collect(ctx context.Context, to road, s plan.Spool) error {
	for o.spool.State().Written == o.spool.Reading()-1 {
		o.inOrder() // all that there is has been sent
		select {
		case <-o.flushed:
		case <-to.idle():
			return errElsewhere
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	deadline := time.After(s.Delay)
	for !o.full(s) {
		select {
		case <-o.flushed:
		case <-deadline:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// atMost returns how many records the next batch has at most.
func (o *Spool) atMost(s plan.Spool) int {
	if o.most > 0 {
		return min(s.Records, o.most)
	}
	return s.Records
}

// launch reads a batch, packs it and begins to send it. It returns nil where
// there is nothing to read.
func (o *Spool) launch(ctx context.Context, to road, s plan.Spool) (*underWay, error) {
	to.reset()
	b, err := o.spool.Read(o.atMost(s), to.atMost(s.Bytes), to.add)
	if err != nil || b.Last < b.First {
		return nil, err
	}
	u := &underWay{batch: b, done: make(chan struct{})}
	guard.Boundary("send")
	send := to.pack(b, false)
	go func() {
		defer close(u.done)
		u.err = errBroke // unless it returns
		o.orFail(func() { u.confirmed, u.err = send(ctx) })()
	}()
	return u, nil
}

// errBroke says that the sending of a batch has failed by a fault of ours.
var errBroke = errors.New("the sending has failed; the agent's log tells where")

// finish forgets what is confirmed. A batch that is refused for what is in it
// is sent again in halves, down to the one record that cannot pass.
func (o *Spool) finish(ctx context.Context, to road, u *underWay) error {
	confirmed, err := u.confirmed, u.err
	again := false
	var bad *badBatch
	var partly *partlyRefused
	switch {
	case errors.As(err, &bad) && u.batch.Records > 1:
		o.most = u.batch.Records / 2
		return errAgain
	case errors.As(err, &bad) && u.batch.Records == 1:
		confirmed, err = o.leaveOut(ctx, to, bad)
		again = true
	case errors.As(err, &partly):
		o.log.Warn("the other side has refused records of a batch; it took the others", "outlet", o.name, "records", partly.records, "why", partly.why)
		o.countRefused(min(partly.records, int64(u.batch.Records)))
		err = nil
	}
	if err != nil {
		return err
	}
	if o.most > 0 && !again {
		if o.most *= 2; o.most >= o.Settings().Spool.Records {
			o.most = 0
		}
	}
	o.mu.Lock()
	o.lastWrite = time.Now()
	o.mu.Unlock()
	since := o.spool.OldestHeld()
	if err = o.confirm(confirmed); !since.IsZero() {
		o.delay.Observe(time.Since(since))
	}
	o.delivered()
	if err == nil && again {
		return errAgain
	}
	return err
}

// leaveOut writes the first record that is not confirmed down as refused, and
// tells the other side that it does not come.
func (o *Spool) leaveOut(ctx context.Context, to road, bad *badBatch) (confirmed uint64, err error) {
	o.spool.Rewind()
	to.reset()
	to.rewind()
	var failed error
	b, err := o.spool.Read(1, 1, func(_ uint64, r *record.Record) { failed = o.refusals.add(r, bad) })
	if err = errors.Join(err, failed); err != nil {
		return 0, fmt.Errorf("a record that is refused cannot be written down: %w", err)
	}
	if confirmed, err = to.pack(b, true)(ctx); err != nil {
		return confirmed, err
	}
	o.countRefused(1)
	o.log.Warn("a record is refused; it is written down, and the outlet goes on", "outlet", o.name, "file", o.refusals.path, "why", bad.why)
	return confirmed, nil
}

func (o *Spool) countRefused(n int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.refused += n
}

func (o *Spool) confirm(number uint64) error {
	if written := o.spool.State().Written; number > written {
		return fmt.Errorf("the store has records of this outlet up to number %d, but here only %d were written: the state folder is an older copy, or another agent uses a copy of it; give the agent a new one", number, written)
	}
	err := o.spool.Acknowledge(number)
	signal(o.confirmed)
	return err
}

// forgetConfirmed removes what is confirmed from the spool until ctx ends. It
// works beside the sending, as it takes as long as the disk takes to sync.
func (o *Spool) forgetConfirmed(ctx context.Context) {
	for ctx.Err() == nil {
		select {
		case <-o.confirmed:
		case <-ctx.Done():
		}
		err := o.spool.Forget()
		if err != nil {
			time.AfterFunc(retryTime, func() { signal(o.confirmed) })
		}
		o.mu.Lock()
		o.setTrouble(&o.removing, "what is delivered cannot be removed from the spool; the outlet goes on and tries again", err)
		o.mu.Unlock()
		o.makeRoom()
	}
}
