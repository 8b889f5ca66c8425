package outlet

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"reflect"
	"strings"
	"sync"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/spool"
)

// Spool sends records elsewhere. What it takes is in its spool until the
// other side has it.
type Spool struct {
	common
	name      string
	kind      plan.OutletKind
	spool     *spool.Spool
	log       *slog.Logger
	delivered func() // called after each batch that is confirmed
	open      func(plan.Outlet, *Spool) (road, error)
	guard     func(part string, run func()) (failed bool)
	refusals  refusals

	wake      chan struct{} // there is something to flush
	plenty    chan struct{} // and so much that it is not to wait for more
	flushed   chan struct{} // there is something to send
	confirmed chan struct{} // there is something to forget
	stopped   chan struct{}
	retry     backoff // of the sending goroutine
	most      int     // records of the next batch, of the sending goroutine: fewer while it looks for one that is refused

	road           road
	changes        int   // how often the road was changed
	in, shedBefore int64 // records; shed before they came into the spool
	out            int64 // delivered before an outlet that had failed was replaced
	refused        int64
	marks          takenMarks
	gone           []string // sources to forget
	atStart        int64
	room           chan struct{}
	writing        string // why the spool cannot be written, "" where it can
	sending        string // why the other side does not take, "" where it does
	removing       string // why what is delivered cannot be removed from the spool, "" where it can
	since          time.Time
	nextTry        time.Time // zero where nothing is in the way
	lastWrite      time.Time
	deadline       time.Time
}

func (a *Agent) openSpool(s plan.Outlet) (*Spool, error) {
	sp, err := spool.Open(disk.OS, spoolDir(a.State.Dir(), s), s.Spool.Disk, func(d spool.Damage) {
		a.State.PutAside(client.Damage{Part: "outlet " + s.Name, File: d.File, Cost: spoolCost(d)})
	})
	if err != nil {
		return nil, fmt.Errorf("its spool cannot be opened: %w", err)
	}
	if err := sp.BeginRun(a.State.Run()); err != nil { // it is written with what is written next
		a.Log.Warn("it cannot be written down that a run begins", "outlet", s.Name, "why", err)
	}
	if f := sp.Feed(); f.Agent == "" { // from now on, so that a copy that is made before the first contact is told apart
		f.Agent = a.State.AgentID()
		if err := sp.SetFeed(f); err != nil {
			a.Log.Warn("it cannot be written down whose records these are", "outlet", s.Name, "why", err)
		}
	}
	o := spoolOn(sp, s, a.roadTo, a.Log, a.Delivered)
	o.refusals = refusals{disk.OS, refusedFile(a.State.Dir(), s.Name)}
	o.guard = a.Guard.Run
	if o.road, err = a.roadTo(s, o); err != nil {
		sp.Close()
		return nil, err
	}
	return o, nil
}

// spoolCost tells what damage in a spool cost.
func spoolCost(d spool.Damage) string {
	switch {
	case d.End && d.Bytes > 0:
		return fmt.Sprintf("%d bytes of records at its end: the other side is told which numbers are lost; if it had them already, lines of files come twice", d.Bytes)
	case d.End:
		return "how far the other side has confirmed, and files were read: what is not known from the spool may be sent or read again"
	case d.Bytes > 0 && d.Records == 1:
		return fmt.Sprintf("1 record or more in %d bytes: the other side is told which numbers are lost", d.Bytes)
	case d.Bytes > 0:
		return fmt.Sprintf("%d records or more in %d bytes: the other side is told which numbers are lost", d.Records, d.Bytes)
	}
	return "nothing: what stood in it is known from its twin"
}

// spoolOn returns an outlet with a spool, which has no road yet, and calls
// delivered after each batch that is confirmed.
func spoolOn(sp *spool.Spool, s plan.Outlet, open func(plan.Outlet, *Spool) (road, error), log *slog.Logger, delivered func()) *Spool {
	return &Spool{
		common: newCommon(s), guard: func(_ string, run func()) bool { run(); return false },
		name: s.Name, kind: s.Kind, spool: sp, log: log, delivered: delivered, open: open, atStart: sp.State().Held,
		wake: make(chan struct{}, 1), plenty: make(chan struct{}, 1), flushed: make(chan struct{}, 1), confirmed: make(chan struct{}, 1), stopped: make(chan struct{}), room: make(chan struct{}),
		retry: backoff{chance: rand.N[time.Duration]}, marks: newTakenMarks(sp.Marks()),
	}
}

// Spools implements [Outlet].
func (o *Spool) Spools() *Spool { return o }

func (o *Spool) Key() string { return KeyOf(plan.Outlet{Name: o.name, Kind: o.kind}) }

func (o *Spool) Configure(s plan.Outlet) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !reflect.DeepEqual([]any{s.Store, s.Remote, s.Notify, formatOf(s)}, []any{o.settings.Store, o.settings.Remote, o.settings.Notify, formatOf(o.settings)}) {
		to, err := o.open(s, o)
		if err != nil {
			o.setTrouble(&o.sending, "the outlet cannot be sent to as the plan says; it goes on as before", err)
		} else {
			o.road = to
			o.changes++
		}
	}
	o.settings = s
	o.limit()
}

// formatOf returns the format of an outlet's lines as the plan has it, "" for none.
func formatOf(s plan.Outlet) string {
	if s.Format == nil {
		return ""
	}
	return s.Format.String()
}

// limit bounds the spool by its settings, and by what the disk has free above
// its floor. It is called with the lock.
func (o *Spool) limit() {
	room := o.settings.Spool.Floor.Room(o.spool.Dir())
	if size := o.spool.State().Size; room < o.settings.Spool.Disk-size {
		o.spool.SetLimit(size + room)
		return
	}
	o.spool.SetLimit(o.settings.Spool.Disk)
}

func (o *Spool) Take(b *record.Batch, routing *route.Routing, number int, canWait bool) {
	pending := o.hold(b, routing, number, canWait)
	if pending > 0 {
		signal(o.wake)
	}
	if pending >= plentySize {
		signal(o.plenty)
	}
}

// hold returns how many bytes wait to be written then.
func (o *Spool) hold(b *record.Batch, routing *route.Routing, number int, canWait bool) (pending int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.counted = 0
	guard.Boundary("take")
	o.marks.prepare(b)
	for i := range b.Records {
		if !routing.Has(i, number) || o.marks.has(&b.Records[i]) {
			continue
		}
		o.in++
		if !canWait && o.spool.Pending() >= heldSize {
			o.counted++
			o.shedBefore++ // the spool cannot be written
			continue
		}
		o.counted++
		if b.Records[i].End > 0 {
			o.heldFrom++
		}
		o.spool.Add(&b.Records[i], canWait && o.settings.Spool.Wait)
	}
	o.marks.advance(b)
	return o.spool.Pending()
}

// plentySize is how many bytes are written to a spool at once, where they come quickly.
const plentySize = 256 << 10

// signal wakes whoever waits on c.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (o *Spool) WaitForRoom() <-chan struct{} {
	if o.IsDown() {
		return o.mended
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.spool.Pending() < heldSize && !(o.settings.Spool.Wait && o.spool.Full()) {
		return nil
	}
	return o.room
}

// makeRoom wakes the intakes that wait.
func (o *Spool) makeRoom() {
	o.mu.Lock()
	defer o.mu.Unlock()
	close(o.room)
	o.room = make(chan struct{})
}

func (o *Spool) Run() {
	ctx, cancel := context.WithCancel(context.Background())
	sent, end := context.WithCancel(context.Background())
	var sending, forgetting sync.WaitGroup
	defer func() {
		cancel()
		sending.Wait()
		end()
		forgetting.Wait()
		o.spool.Close()
	}()
	sending.Go(o.orFail(func() { o.send(ctx) }))
	forgetting.Go(o.orFail(func() { o.forgetConfirmed(sent) }))
	o.flushAll()
}

// orFail is a part of the outlet with which all of it fails.
func (o *Spool) orFail(run func()) func() {
	return func() {
		if o.guard(guard.Outlet(o.name), run) {
			o.Fail()
		}
	}
}

// flushAll writes what is taken into the spool, until the outlet ends.
func (o *Spool) flushAll() {
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
				if lost := o.spool.PendingRecords(); lost > 0 {
					o.log.Error("records are lost, because the spool could not be written before the agent stopped; those that came from files are read again", "outlet", o.name, "records", lost, "why", o.writing)
				}
				o.saveMarks()
				o.mu.Unlock()
				o.sync()
				return
			}
			time.Sleep(retryTime / 4)
		case <-o.broke:
			return
		}
		if o.finished() {
			return
		}
	}
}

// gather waits a moment for more.
func (o *Spool) gather() {
	select {
	case <-time.After(flushTime / 2):
	case <-o.plenty:
	case <-o.stopped:
	case <-o.broke:
	}
}

func (o *Spool) flush() {
	again, each := o.flushOnce()
	if again {
		time.AfterFunc(retryTime/4, func() { signal(o.wake) })
		return
	}
	if each {
		o.sync()
	}
	o.makeRoom()
	signal(o.flushed)
}

// flushOnce tells whether something is left to flush, and whether each flush is synced.
func (o *Spool) flushOnce() (again, each bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var err error
	if o.spool.Pending() > 0 {
		guard.Boundary("write")
		if err = o.spool.Flush(o.marks.unwritten()); err == nil {
			o.marks.written()
			o.heldFrom = 0
		}
	}
	if errors.Is(err, spool.ErrFull) {
		err = nil // the intakes wait; it is told as held
	}
	o.setTrouble(&o.writing, "the spool cannot be written; the outlet holds what comes and tries again", err)
	return o.spool.Pending() > 0, o.settings.Spool.SyncEach
}

// saveMarks writes down how far sources are taken from which nothing came for
// this outlet. It is called with the lock.
func (o *Spool) saveMarks() {
	if len(o.marks.changed)+len(o.gone) == 0 || o.spool.Pending() > 0 {
		return
	}
	if err := o.spool.SaveMarks(o.marks.unwritten(), o.gone); err != nil {
		o.setTrouble(&o.writing, "how far files are followed cannot be written down", err)
		return
	}
	o.marks.written()
	o.gone = nil
}

func (o *Spool) Taken(source string) (offset int64, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.marks.of(source)
}

func (o *Spool) SetTaken(marks []record.Mark) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.set(marks)
	return o.spool.SaveMarks(marks, nil)
}

func (o *Spool) Forget(sources []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.forget(sources)
	o.gone = append(o.gone, sources...)
}

func (o *Spool) sync() error {
	err := o.spool.Sync()
	o.mu.Lock()
	defer o.mu.Unlock()
	if err != nil {
		o.setTrouble(&o.writing, "the spool cannot be synced", err)
	}
	return err
}

// setTrouble remembers trouble, and logs it when it begins, changes or ends.
func (o *Spool) setTrouble(trouble *string, what string, err error) {
	text := ""
	if err != nil {
		text = err.Error()
	}
	if text == *trouble {
		return
	}
	if o.writing == "" && o.sending == "" && o.removing == "" {
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
func (o *Spool) written() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.spool.Pending() == 0
}

// finished tells whether the outlet is to leave and has delivered all.
func (o *Spool) finished() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.ended = o.leaves && o.spool.Pending() == 0 && o.spool.State().Held == 0
	return o.ended
}

func (o *Spool) Leave() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.leaves = true
}

func (o *Spool) Stop(deadline time.Time) {
	o.mu.Lock()
	o.deadline = deadline
	o.mu.Unlock()
	close(o.stopped)
}

func (o *Spool) Status() client.OutletStatus {
	o.mu.Lock()
	defer o.mu.Unlock()
	state := o.spool.State()
	s := client.OutletStatus{Name: o.name, Kind: o.kind, Path: GoesTo(o.settings), LiveBytes: state.Size, Trouble: o.writing}
	s.Outlet, s.Delay = o.account(state), o.delay.Seen()
	if s.Held > 0 {
		s.HeldSince = timeOrNil(o.spool.OldestHeld())
	}
	s.NextTry = timeOrNil(o.nextTry)
	if s.Trouble == "" {
		s.Trouble = o.sending
	}
	if s.Trouble == "" {
		s.Trouble = o.removing
	}
	if s.Trouble != "" {
		since := o.since
		s.TroubleSince = &since
	}
	s.LastWrite = timeOrNil(o.lastWrite)
	return s
}

func timeOrNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// GoesTo tells where an outlet sends to.
func GoesTo(s plan.Outlet) string {
	switch {
	case s.Kind == plan.StoreOutlet:
		return "cask " + s.Store.Cask
	case s.Kind == plan.StdoutOutlet:
		return "standard output"
	case s.Kind == plan.JournalOutlet && s.Journal.Namespace != "":
		return "the journal of " + s.Journal.Namespace
	case s.Kind == plan.JournalOutlet:
		return "the journal"
	case s.Kind == plan.EventsOutlet:
		return "the events of " + s.Events.Channel
	case s.Notify.Mail.Server != "":
		return "mail to " + strings.ReplaceAll(s.Notify.Mail.To, " ", ", ")
	case s.Kind == plan.NotifyOutlet:
		return "the webhook of " + s.Notify.WebhookFile
	case s.Remote.Network != "":
		return s.Remote.Network + " " + s.Remote.Address
	}
	return s.Remote.Address
}

func (o *Spool) account(state spool.State) balance.Outlet {
	return balance.Outlet{In: o.in, HeldAtStart: o.atStart, Out: o.out + state.Delivered - o.refused, Shed: o.shedBefore + state.Shed, Refused: o.refused, Held: state.Held + o.spool.PendingRecords()}
}

func (o *Spool) Account() balance.Outlet {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.account(o.spool.State())
}

// holdAgain counts records that are held again, which had been delivered.
func (o *Spool) holdAgain(records int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.atStart += records
}

func (o *Spool) Shed(records int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.in += records
	o.shedBefore += records
}

func (o *Spool) InMemory() (held, again int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	held = o.in + o.atStart - o.out - o.shedBefore
	state := o.spool.State()
	return held - state.Delivered - state.Shed - state.Held, o.heldFrom
}

// carry has what is not known to be out yet, and was not shed, stand for held.
func (o *Spool) Carry(account balance.Outlet) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.in, o.atStart, o.shedBefore, o.refused = account.In, account.HeldAtStart, account.Shed, account.Refused
	o.out = account.In + account.HeldAtStart - account.Shed - o.spool.State().Held
}

// Last returns the number of the last record that was taken.
func (o *Spool) Last() uint64 { return o.spool.State().Next - 1 }

// Written returns the number of the last record that is in the spool.
func (o *Spool) Written() uint64 { return o.spool.State().Written }
