package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/block"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/spool"
)

// How a store outlet tries again: the time between two tries doubles from the
// first to the last, and varies, so that a thousand hosts do not come at once.
const (
	firstRetry  = 250 * time.Millisecond
	lastRetry   = 30 * time.Second
	refusedTime = 5 * time.Second // between tries after a refusal, so that a new token is soon seen
)

// storeOutlet sends records to a cask of the central store. What it takes is
// in its spool until the store has confirmed it.
type storeOutlet struct {
	name    string
	agentID string
	spool   *spool.Spool
	client  *client.Client
	log     *slog.Logger

	wake    chan struct{} // there is something to flush
	flushed chan struct{} // there is something to send
	stopped chan struct{}
	builder block.Builder // of the sending goroutine

	mu        sync.Mutex
	settings  plan.Store
	in, shed  int64 // shed before they came into the spool
	atStart   int64
	room      chan struct{}
	writing   string // why the spool cannot be written, "" where it can
	sending   string // why the store does not take, "" where it does
	since     time.Time
	lastWrite time.Time
	leaves    bool
	ended     bool
	deadline  time.Time
}

func (a *Agent) newStoreOutlet(s plan.Outlet) (*storeOutlet, error) {
	sp, err := spool.Open(disk.OS, a.state.spoolDir(s.Name), s.Store.Disk)
	if err != nil {
		return nil, err
	}
	c, err := storeClient(s.Store.Service)
	if err != nil {
		sp.Close()
		return nil, err
	}
	o := &storeOutlet{
		name: s.Name, agentID: a.state.id, spool: sp, client: c, log: a.log, settings: s.Store, atStart: sp.State().Held,
		wake: make(chan struct{}, 1), flushed: make(chan struct{}, 1), stopped: make(chan struct{}), room: make(chan struct{}),
	}
	return o, nil
}

// storeClient returns a client that reads the token's file for each request,
// so that a new token is taken without a reload.
func storeClient(s plan.Service) (*client.Client, error) {
	return client.New(client.Options{URL: s.URL, CAFile: s.CAFile, Token: func() (string, error) {
		b, err := os.ReadFile(s.TokenFile)
		token := strings.TrimSpace(string(b))
		if err == nil && token == "" {
			err = fmt.Errorf("%s is empty", s.TokenFile)
		}
		return token, err
	}})
}

func (o *storeOutlet) key() string { return "store " + o.name }

func (o *storeOutlet) configure(s plan.Outlet) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if s.Store.Service != o.settings.Service {
		if c, err := storeClient(s.Store.Service); err == nil { // checked with the plan
			o.client = c
		}
	}
	o.settings = s.Store
	o.spool.SetLimit(s.Store.Disk)
}

func (o *storeOutlet) take(b *record.Batch, marks *route.Marks, number int, canWait bool) {
	o.mu.Lock()
	for i := range b.Records {
		if !marks.Has(i, number) {
			continue
		}
		o.in++
		if !canWait && o.spool.Pending() >= heldSize {
			o.shed++ // the spool cannot be written
			continue
		}
		o.spool.Add(&b.Records[i], canWait && o.settings.Wait)
	}
	some := o.spool.Pending() > 0
	o.mu.Unlock()
	if some {
		signal(o.wake)
	}
}

// signal wakes whoever waits on c.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (o *storeOutlet) waitForRoom() <-chan struct{} {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.spool.Pending() < heldSize && !(o.settings.Wait && o.spool.Full()) {
		return nil
	}
	return o.room
}

// makeRoom wakes the intakes that wait.
func (o *storeOutlet) makeRoom() {
	o.mu.Lock()
	defer o.mu.Unlock()
	close(o.room)
	o.room = make(chan struct{})
}

func (o *storeOutlet) run() {
	ctx, cancel := context.WithCancel(context.Background())
	var sending sync.WaitGroup
	sending.Go(func() { o.send(ctx) })
	o.flushAll()
	cancel()
	sending.Wait()
	o.spool.Close()
}

// flushAll writes what is taken into the spool, until the outlet ends.
func (o *storeOutlet) flushAll() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	synced := true
	for {
		select {
		case <-o.wake:
			o.gather()
			o.flush()
			synced = false
		case <-tick.C:
			if !synced {
				synced = o.sync() == nil
			}
		case <-o.stopped:
			o.flush()
			if o.written() || time.Now().After(o.deadline) {
				o.sync()
				return
			}
			time.Sleep(retryTime / 4)
		}
		if o.finished() {
			return
		}
	}
}

// gather waits a moment for more.
func (o *storeOutlet) gather() {
	select {
	case <-time.After(flushTime / 2):
	case <-o.stopped:
	}
}

func (o *storeOutlet) flush() {
	o.mu.Lock()
	err := o.spool.Flush(nil)
	if errors.Is(err, spool.ErrFull) {
		err = nil // the intakes wait; it is told as held
	}
	o.note(&o.writing, "the spool cannot be written; the outlet holds what comes and tries again", err)
	each := o.settings.SyncEach
	retry := o.spool.Pending() > 0
	o.mu.Unlock()
	if retry {
		time.AfterFunc(retryTime/4, func() { signal(o.wake) })
		return
	}
	if each {
		o.sync()
	}
	o.makeRoom()
	signal(o.flushed)
}

func (o *storeOutlet) sync() error {
	err := o.spool.Sync()
	o.mu.Lock()
	defer o.mu.Unlock()
	if err != nil {
		o.note(&o.writing, "the spool cannot be synced", err)
	}
	return err
}

// note remembers trouble, and logs it when it begins, changes or ends.
func (o *storeOutlet) note(trouble *string, what string, err error) {
	text := ""
	if err != nil {
		text = err.Error()
	}
	if text == *trouble {
		return
	}
	if o.writing == "" && o.sending == "" {
		o.since = time.Now()
	}
	*trouble = text
	if err != nil {
		o.log.Error(what, "outlet", o.name, "why", text)
	} else {
		o.log.Info("the outlet is in order again", "outlet", o.name)
	}
}

// written tells whether all that was taken is in the spool.
func (o *storeOutlet) written() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.spool.Pending() == 0
}

// finished tells whether the outlet is to leave and has delivered all.
func (o *storeOutlet) finished() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.ended = o.leaves && o.spool.Pending() == 0 && o.spool.State().Held == 0
	return o.ended
}

func (o *storeOutlet) leave() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.leaves = true
}

func (o *storeOutlet) stay() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.ended {
		return false
	}
	o.leaves = false
	return true
}

func (o *storeOutlet) stop(deadline time.Time) {
	o.mu.Lock()
	o.deadline = deadline
	o.mu.Unlock()
	close(o.stopped)
}

// send sends what is in the spool until ctx ends.
func (o *storeOutlet) send(ctx context.Context) {
	retry := firstRetry
	for ctx.Err() == nil {
		err := o.sendAll(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			continue // the plan sends it elsewhere now
		}
		o.mu.Lock()
		o.note(&o.sending, "the store does not take; the outlet holds what comes and tries again", err)
		o.mu.Unlock()
		wait := refusedTime
		var later *client.RetryLater
		if errors.As(err, &later) {
			wait = max(later.After, retry/2+rand.N(retry))
			retry = min(2*retry, lastRetry)
		} else {
			retry = firstRetry
		}
		pause(ctx, wait)
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
	confirmed, err := o.store().Confirmed(ctx, o.agentID, o.name, to.Cask)
	if err != nil {
		return err
	}
	if err := o.confirm(confirmed); err != nil {
		return err
	}
	o.spool.Rewind()
	for {
		o.mu.Lock()
		o.note(&o.sending, "", nil)
		o.mu.Unlock()
		s := o.plan()
		if s.Cask != to.Cask || s.Service != to.Service {
			return nil // begin again with the new one
		}
		if !o.collect(ctx, s) {
			return ctx.Err()
		}
		if err := o.sendBatch(ctx, s); err != nil {
			return err
		}
	}
}

func (o *storeOutlet) plan() plan.Store {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.settings
}

func (o *storeOutlet) store() *client.Client {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.client
}

// collect waits until there is something to send, and then for more, as the
// plan's batch says. It returns false where ctx ends.
func (o *storeOutlet) collect(ctx context.Context, s plan.Store) bool {
	for o.spool.State().Written == o.spool.Reading()-1 {
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
	hash := sha256.Sum256(payload)
	head.Hash = hex.EncodeToString(hash[:])
	confirmed, err := o.store().SendBatch(ctx, o.agentID, o.name, s.Cask, head, payload)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Expected > 0 {
		confirmed, err = problem.Expected-1, nil
	}
	if err != nil {
		return err
	}
	o.mu.Lock()
	o.lastWrite = time.Now()
	o.mu.Unlock()
	return o.confirm(confirmed)
}

func (o *storeOutlet) confirm(number uint64) error {
	if written := o.spool.State().Written; number > written {
		return fmt.Errorf("the store has records of this outlet up to number %d, but here only %d were written: the state folder is an older copy, or another agent uses a copy of it; give the agent a new one", number, written)
	}
	err := o.spool.Confirm(number)
	o.makeRoom()
	return err
}

func (o *storeOutlet) status(leaving bool) OutletStatus {
	o.mu.Lock()
	defer o.mu.Unlock()
	state := o.spool.State()
	s := OutletStatus{Name: o.name, Kind: "store", Path: "cask " + o.settings.Cask, LiveBytes: state.Size, Trouble: o.writing, Leaving: leaving}
	s.Outlet = balance.Outlet{In: o.in, HeldAtStart: o.atStart, Out: state.Delivered, Shed: o.shed + state.Shed, Held: state.Held + o.spool.PendingRecords()}
	if s.Trouble == "" {
		s.Trouble = o.sending
	}
	if s.Trouble != "" {
		since := o.since
		s.TroubleSince = &since
	}
	if !o.lastWrite.IsZero() {
		at := o.lastWrite
		s.LastWrite = &at
	}
	return s
}
