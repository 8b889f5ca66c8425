package outlet

import (
	"context"
	"log/slog"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
	"oakbarrel/core/route"
)

// How a file outlet gathers what it writes.
const (
	flushSize = 64 << 10               // bytes that are written at once
	flushTime = 100 * time.Millisecond // the longest time that a record waits for more
	heldSize  = 1 << 20                // bytes of lines held before the outlet is full
	retryTime = time.Second            // between tries to write where writing fails
	tidyTime  = time.Minute            // between looks at what is to be kept
)

// File is an outlet that writes lines into rolled sets: one, or where its path has places,
// as many as records ask for.
type File struct {
	common
	path    string // as the plan has it
	intents string // the folder of the notes of writes
	notes   string // the file that says how far followed sources are taken in all sets
	log     *slog.Logger
	agent   *Agent

	wake    chan struct{}    // there is something to write, or enough to write at once
	rolled  chan struct{}    // there may be something to tidy
	rolls   chan rollRequest // somebody wants sets rolled
	stopped chan struct{}    // closed when the agent stops

	gathered time.Time  // when lines were last given to the writers; of the writing goroutine
	due      []*fileSet // that have something to write; likewise
	marked   time.Time  // when the marks were last written down; likewise
	saved    savedMarks

	sets         map[string]*fileSet
	order        []*fileSet // in the order in which they were made
	scratch      []byte
	day          int64 // of the last record, where the path has a date
	before       int   // how many sets there were before that day
	heldBytes    int
	heldSince    time.Time // when the oldest record came that is held and not given to the writers yet
	account      balance.Outlet
	marks        takenMarks
	forgotten    []string      // sources that are not in the memo of the marks any more, once it is written
	roomMade     chan struct{} // closed when what was held has been given to the writers
	lastWrite    time.Time
	trouble      string
	troubleSince time.Time
	deadline     time.Time // once the agent stops: when the writing must be over
}

func (a *Agent) openFile(s plan.Outlet) *File {
	o := &File{
		common: newCommon(s), path: s.File.Path, intents: a.State.Intents(), notes: filepath.Join(a.State.Intents(), state.NameFor(s.File.Path)+marksSuffix), log: a.Log, agent: a, sets: map[string]*fileSet{},
		wake: make(chan struct{}, 1), rolled: make(chan struct{}, 1), rolls: make(chan rollRequest), roomMade: make(chan struct{}), stopped: make(chan struct{}),
	}
	o.marks = newTakenMarks(o.readMarks())
	if s.Path == nil {
		o.setAt(s.File.Path)
	} else {
		o.discover()
	}
	return o
}

// Rolls implements [Outlet].
func (o *File) Rolls() *File { return o }

func (o *File) Key() string { return "file " + o.path }

func (o *File) Configure(s plan.Outlet) {
	o.mu.Lock()
	defer o.mu.Unlock()
	changed := !slices.Equal(o.settings.Until, s.Until)
	o.settings = s
	for _, set := range o.order {
		set.writer.Configure(s.File)
		if changed {
			set.writer.SetDebts(o.debts())
		}
	}
}

// Take formats the records. An intake that can wait has been held back before.
func (o *File) Take(b *record.Batch, routing *route.Routing, number int, canWait bool) {
	before, after := o.hold(b, routing, number, canWait)
	if before == 0 && after > 0 || before < flushSize && after >= flushSize {
		o.wakeUp()
	}
}

// hold returns how many bytes were held before, and are now.
func (o *File) hold(b *record.Batch, routing *route.Routing, number int, canWait bool) (before, after int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	before, o.counted = o.heldBytes, 0
	guard.Boundary("take")
	o.marks.prepare(b)
	var last *fileSet
	for i := range b.Records {
		r := &b.Records[i]
		if !routing.Has(i, number) || o.marks.has(r) {
			continue
		}
		if !canWait && o.heldBytes >= heldSize {
			o.counted++
			o.account.In++
			o.account.Shed++
			continue
		}
		if o.heldSince.IsZero() {
			o.heldSince = r.Received.Time()
		}
		s := o.setFor(r)
		last = s
		if r.End > 0 && s.has(b.Marks[r.Source].Source, r.End) {
			continue
		}
		o.counted++
		o.account.In++
		if r.End > 0 {
			o.heldFrom++
		}
		length := len(s.held)
		s.held = o.settings.Format.AppendLine(s.held, r)
		s.heldRecords++
		o.heldBytes += len(s.held) - length
		for _, m := range r.Through {
			s.heldTaken = append(s.heldTaken, roll.Taken{End: len(s.held), Mark: m})
		}
		if r.End > 0 {
			s.heldTaken = append(s.heldTaken, roll.Taken{End: len(s.held), Record: true, Mark: record.Mark{Source: b.Marks[r.Source].Source, Offset: r.End}})
		}
	}
	if last != nil && len(o.order) == 1 { // a batch may end more than the sources of its records
		for _, m := range b.Marks {
			last.heldTaken = append(last.heldTaken, roll.Taken{End: len(last.held), Mark: m})
		}
	}
	o.marks.advance(b)
	return before, o.heldBytes
}

func (o *File) wakeUp() { signal(o.wake) }

func (o *File) WaitForRoom() <-chan struct{} {
	if o.IsDown() {
		return o.mended
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.heldBytes < heldSize {
		return nil
	}
	return o.roomMade
}

func (o *File) Run() {
	ctx, cancel := context.WithCancel(context.Background())
	var tidying sync.WaitGroup
	defer func() {
		cancel()
		tidying.Wait()
		for _, s := range o.all() {
			s.writer.Close()
		}
		o.saved.memo.Close()
	}()
	tidying.Go(func() {
		if o.agent.Guard.Run(guard.Outlet(o.Settings().Name), func() { o.tidy(ctx) }) {
			o.Fail()
		}
	})
	if o.writeAll() {
		o.saveMarks()
	}
}

// writeAll writes until the outlet is to end, and tells whether all is written.
func (o *File) writeAll() bool {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	o.tickSets()
	for {
		select {
		case <-o.wake:
			if !o.paused().IsZero() {
				continue // the tick writes what is held, once it is over
			}
			o.gather()
		case <-tick.C:
			o.tickSets()
			if !o.saveMarksAtTimes() {
				return false
			}
			if o.paused().IsZero() && o.Account().Held > 0 && !o.writeHeld() {
				return false
			}
			if o.finished() {
				return true
			}
			continue
		case r := <-o.rolls:
			o.rollSets(r)
			continue
		case <-o.stopped:
		case <-o.broke:
			return false
		}
		if !o.writeHeld() {
			return false
		}
		if o.finished() {
			return true
		}
	}
}

// gather waits for more until flushTime after the write before, unless there
// is enough already. So a record that comes alone is written at once.
func (o *File) gather() {
	o.mu.Lock()
	enough := o.heldBytes >= flushSize || o.leaves
	o.mu.Unlock()
	wait := time.Until(o.gathered.Add(flushTime))
	if !enough && wait > 0 {
		select {
		case <-o.wake:
		case <-o.stopped:
		case <-o.broke:
		case <-time.After(wait):
		}
	}
	o.gathered = time.Now()
}

// writeHeld writes what is held of all sets.
func (o *File) writeHeld() bool {
	o.mu.Lock()
	o.due = o.due[:0]
	since := o.heldSince
	o.heldSince = time.Time{}
	for _, s := range o.order {
		if len(s.held) > 0 {
			o.swap(s)
			o.due = append(o.due, s)
		}
	}
	o.mu.Unlock()
	for _, s := range o.due {
		if !o.write(s) {
			return false
		}
	}
	if len(o.due) > 0 {
		o.delay.Observe(time.Since(since))
	}
	o.mu.Lock()
	close(o.roomMade)
	o.roomMade = make(chan struct{})
	o.mu.Unlock()
	return true
}

// waitForRetry returns false where there is no time for another try.
func (o *File) waitForRetry() bool {
	select {
	case <-time.After(retryTime):
	case <-o.broke:
		return false
	case <-o.stopped:
		o.mu.Lock()
		deadline := o.deadline
		o.mu.Unlock()
		if time.Now().Add(retryTime / 4).After(deadline) {
			o.log.Error("records are lost, because they could not be written before the agent stopped", "path", o.path, "records", o.Account().Held)
			return false
		}
		time.Sleep(retryTime / 4)
	}
	return true
}

// wrote counts what was written and tells when trouble begins and ends.
func (o *File) wrote(s *fileSet, records, fromSources int64, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.heldFrom -= fromSources
	o.account.Out += records
	s.beingWritten -= records
	if records > 0 {
		o.lastWrite = time.Now()
	}
	o.setTrouble(err)
}

// setTrouble remembers trouble, and logs it when it begins, changes or ends.
func (o *File) setTrouble(err error) {
	switch {
	case err == nil && o.trouble != "":
		o.log.Info("the outlet writes again", "outlet", o.settings.Name, "path", o.path, "after", time.Since(o.troubleSince).Round(time.Second).String())
		o.trouble = ""
	case err != nil && err.Error() != o.trouble:
		if o.trouble == "" {
			o.troubleSince = time.Now()
		}
		o.trouble = err.Error()
		o.log.Error("the outlet cannot write; it holds what comes and tries again each second", "outlet", o.settings.Name, "path", o.path, "why", err)
	}
}

func (o *File) Leave() {
	o.mu.Lock()
	o.leaves = true
	o.mu.Unlock()
	o.wakeUp()
}

func (o *File) Stop(deadline time.Time) {
	o.mu.Lock()
	o.leaves, o.deadline = true, deadline
	o.mu.Unlock()
	close(o.stopped)
}

// finished tells whether the outlet is to end, and has nothing left to write.
func (o *File) finished() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.ended = o.leaves && o.heldBytes == 0
	return o.ended
}

// snapshot returns the account. Between two batches it closes.
func (o *File) Account() balance.Outlet {
	o.mu.Lock()
	defer o.mu.Unlock()
	account := o.account
	for _, s := range o.order {
		account.Held += s.heldRecords + s.beingWritten
	}
	return account
}

func (o *File) Shed(records int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.account.In += records
	o.account.Shed += records
}

// inMemory counts what was not written: also what was counted and not held when
// the outlet failed.
func (o *File) InMemory() (held, again int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.account.In - o.account.Out - o.account.Shed, o.heldFrom
}

func (o *File) Carry(account balance.Outlet) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.account = balance.Outlet{In: account.In, Out: account.Out, Shed: account.Shed}
}

// mostPaths bounds the list of paths in a status.
const mostPaths = 100

func (o *File) Status() client.OutletStatus {
	o.mu.Lock()
	sets := append([]*fileSet(nil), o.order...)
	s := client.OutletStatus{Name: o.settings.Name, Kind: "file", Path: o.path, Files: len(sets), Trouble: o.trouble, LastWrite: timeOrNil(o.lastWrite)}
	if o.trouble != "" {
		s.TroubleSince = timeOrNil(o.troubleSince)
	}
	o.mu.Unlock()
	s.Outlet, s.Delay = o.Account(), o.delay.Seen()
	for _, set := range sets {
		pieces, live := set.writer.Pieces()
		s.LiveBytes += live
		s.Pieces += len(pieces)
		s.Rolls += set.writer.Rolls()
		for _, p := range pieces {
			s.PieceBytes += p.Size
		}
		if len(s.Paths) < mostPaths {
			s.Paths = append(s.Paths, set.path)
		}
		if len(sets) == 1 {
			s.TallyLines, s.TallyHash = set.writer.Tally()
			s.TallyTail = set.writer.TallyTail()
		}
	}
	return s
}
