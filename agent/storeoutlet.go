package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/block"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/spool"
)

// storeOutlet sends records to a cask of the central store. What it takes is
// in its spool until the store has confirmed it.
type storeOutlet struct {
	name      string
	agentID   string
	spool     *spool.Spool
	log       *slog.Logger
	delivered func() // called after each batch that is confirmed

	wake    chan struct{} // there is something to flush
	flushed chan struct{} // there is something to send
	stopped chan struct{}
	builder block.Builder // of the sending goroutine
	retry   backoff       // of the sending goroutine

	mu        sync.Mutex
	service   feedService
	settings  plan.Store
	in, shed  int64 // shed before they came into the spool
	marks     takenMarks
	gone      []string // sources to forget
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
	service, err := serviceClient(s.Store.Service)
	if err != nil {
		return nil, fmt.Errorf("the service cannot be asked: %w", err)
	}
	sp, err := spool.Open(disk.OS, a.state.spoolDir(s.Name), s.Store.Disk)
	if err != nil {
		return nil, fmt.Errorf("its spool cannot be opened: %w", err)
	}
	return storeOutletOn(sp, s, a.state.id, service, a.log, a.signalDelivery), nil
}

// storeOutletOn returns an outlet with a spool, which sends to a service and
// calls delivered after each batch that is confirmed.
func storeOutletOn(sp *spool.Spool, s plan.Outlet, agentID string, service feedService, log *slog.Logger, delivered func()) *storeOutlet {
	return &storeOutlet{
		name: s.Name, agentID: agentID, spool: sp, service: service, log: log, delivered: delivered, settings: s.Store, atStart: sp.State().Held,
		wake: make(chan struct{}, 1), flushed: make(chan struct{}, 1), stopped: make(chan struct{}), room: make(chan struct{}),
		retry: backoff{chance: rand.N[time.Duration]}, marks: newTakenMarks(sp.Marks()),
	}
}

func (o *storeOutlet) key() string { return "store " + o.name }

func (o *storeOutlet) configure(s plan.Outlet) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if s.Store.Service != o.settings.Service {
		service, err := serviceClient(s.Store.Service)
		if err != nil {
			o.note(&o.sending, "the service cannot be asked; the one before is", err)
		} else {
			o.service = service
		}
	}
	o.settings = s.Store
	o.limit()
}

// limit bounds the spool by its settings, and by what the disk has free above
// its floor. It is called with the lock.
func (o *storeOutlet) limit() {
	room := o.settings.Floor.Room(o.spool.Dir())
	if size := o.spool.State().Size; room < o.settings.Disk-size {
		o.spool.SetLimit(size + room)
		return
	}
	o.spool.SetLimit(o.settings.Disk)
}

func (o *storeOutlet) take(b *record.Batch, marks *route.Marks, number int, canWait bool) {
	o.mu.Lock()
	o.marks.look(b)
	for i := range b.Records {
		if !marks.Has(i, number) || o.marks.has(&b.Records[i]) {
			continue
		}
		o.in++
		if !canWait && o.spool.Pending() >= heldSize {
			o.shed++ // the spool cannot be written
			continue
		}
		o.spool.Add(&b.Records[i], canWait && o.settings.Wait)
	}
	o.marks.advance(b)
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
			o.mu.Lock()
			o.limit()
			o.saveMarks()
			o.mu.Unlock()
			if !synced {
				synced = o.sync() == nil
			}
		case <-o.stopped:
			o.flush()
			if o.written() || time.Now().After(o.deadline) {
				o.mu.Lock()
				o.saveMarks()
				o.mu.Unlock()
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
	var err error
	if o.spool.Pending() > 0 {
		if err = o.spool.Flush(o.marks.unwritten()); err == nil {
			o.marks.written()
		}
	}
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

// saveMarks writes down how far sources are taken from which nothing came for
// this outlet. It is called with the lock.
func (o *storeOutlet) saveMarks() {
	if len(o.marks.changed)+len(o.gone) == 0 || o.spool.Pending() > 0 {
		return
	}
	if err := o.spool.SaveMarks(o.marks.unwritten(), o.gone); err != nil {
		o.note(&o.writing, "how far files are followed cannot be written down", err)
		return
	}
	o.marks.written()
	o.gone = nil
}

func (o *storeOutlet) taken(source string) (offset int64, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.marks.of(source)
}

func (o *storeOutlet) begin(marks []record.Mark) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.begin(marks)
	return o.spool.SaveMarks(marks, nil)
}

func (o *storeOutlet) forget(sources []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.forget(sources)
	o.gone = append(o.gone, sources...)
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
