package agent

import (
	"errors"
	"fmt"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// Every part of an agent that runs by itself does so under guard: a panic ends
// that part alone. It is begun again from what stands on the disk, as after a
// kill, after a second, then after longer, up to a minute.
const (
	firstRest = time.Second
	lastRest  = time.Minute
	calmTime  = 2 * time.Minute // after which a part that runs is taken for well again
)

// Fault is what a part of the agent suffered.
type Fault struct {
	Part  string     `json:"part"`  // "intake NAME", "outlet NAME", "tend", "link" or another
	Count int64      `json:"count"` // in this run
	First time.Time  `json:"first"`
	Last  time.Time  `json:"last"`
	What  string     `json:"what"`
	Where string     `json:"where"` // in the code
	Lost  int64      `json:"lost"`  // records that were under way and cannot be read again
	Next  *time.Time `json:"next"`  // when it is begun again, null where it runs
}

// faults are those of this run. They may be used by several goroutines at a time.
type faults struct {
	mu  sync.Mutex
	all []*Fault
}

func (f *faults) of(part string) *Fault {
	for _, known := range f.all {
		if known.Part == part {
			return known
		}
	}
	fault := &Fault{Part: part, First: time.Now()}
	f.all = append(f.all, fault)
	return fault
}

func (f *faults) list() []Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	list := []Fault{}
	for _, fault := range f.all {
		list = append(list, *fault)
	}
	return list
}

// lose counts records that a fault of a part cost.
func (f *faults) lose(part string, records int64) {
	if records == 0 {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.of(part).Lost += records
}

// rests notes when a part is begun again, the zero time for now.
func (f *faults) rests(part string, until time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.of(part).Next = timeOrNil(until)
}

// failed notes that a part has panicked. It is called while that is recovered
// from, so that the place in the code is known.
func (a *Agent) failed(part string, what any) {
	where, stack := whereFailed(), debug.Stack()
	a.faults.mu.Lock()
	fault := a.faults.of(part)
	fault.Count++
	fault.Last, fault.What, fault.Where = time.Now(), fmt.Sprint(what), where
	count := fault.Count
	a.faults.mu.Unlock()
	a.log.Error("a part of the agent has failed; the others go on, and it is begun again", "part", part, "what", fmt.Sprint(what), "where", where, "times", count)
	a.log.Debug("where a part has failed", "part", part, "stack", string(stack))
}

// whereFailed returns the place of the panic that is recovered from.
func whereFailed() string {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(0, pcs)])
	panicked := false
	for {
		f, more := frames.Next()
		if panicked && !strings.HasPrefix(f.Function, "runtime.") {
			file := f.File
			if i := strings.LastIndex(file, "oakbarrel/"); i >= 0 {
				file = file[i+len("oakbarrel/"):]
			}
			return fmt.Sprintf("%s:%d", file, f.Line)
		}
		panicked = panicked || f.Function == "runtime.gopanic" || strings.HasPrefix(f.Function, "runtime.sigpanic")
		if !more {
			return "not known"
		}
	}
}

// guard runs a part and tells whether it failed.
func (a *Agent) guard(part string, run func()) (failed bool) {
	defer func() {
		if what := recover(); what != nil {
			failed = true
			a.failed(part, what)
		}
	}()
	run()
	return false
}

// rest waits before a part is begun again, and returns false where the agent
// ends. The longer it ran well, the shorter.
func (a *Agent) rest(part string, last *time.Duration, ran time.Duration) bool {
	*last = min(max(2**last, firstRest), lastRest)
	if ran > calmTime {
		*last = firstRest
	}
	a.faults.rests(part, time.Now().Add(*last))
	select {
	case <-a.ending.Done():
		return false
	case <-time.After(*last):
	}
	a.faults.rests(part, time.Time{})
	return true
}

// keep runs a part until it ends by itself or the agent does, again where it failed.
func (a *Agent) keep(part string, run func()) {
	var last time.Duration
	for {
		begun := time.Now()
		if !a.guard(part, run) || !a.rest(part, &last, time.Since(begun)) {
			return
		}
	}
}

func intakePart(name string) string { return "intake " + name }

func outletPart(name string) string { return "outlet " + name }

// runEndpoint runs an endpoint of an intake. One that failed is opened anew.
func (a *Agent) runEndpoint(key endpointKey, e endpoint) {
	var last time.Duration
	for {
		begun := time.Now()
		part := intakePart(e.owner().settings.Name)
		if !a.guard(part, e.run) {
			return
		}
		a.guard(part, func() { e.drain(time.Now()) })
		a.loseFlying(part, e)
		for {
			if !a.rest(part, &last, time.Since(begun)) {
				return
			}
			next, err := a.reopen(key, e)
			if err == nil {
				if next == nil {
					return // the plan has it no more
				}
				e = next
				break
			}
			begun = time.Now()
			a.log.Error("an intake that has failed cannot be opened again; it is tried again", "intake", e.owner().settings.Name, "address", key.String(), "why", err)
		}
	}
}

// loseFlying counts what an endpoint had read and not passed on: it is read, and
// was not readable.
func (a *Agent) loseFlying(part string, e endpoint) {
	n := e.lands()
	in := e.owner()
	in.read.Add(n)
	in.unreadable.Add(n)
	a.faults.lose(part, n)
}

// reopen opens an endpoint in the place of one that has failed; nil where that is
// not in force any more.
func (a *Agent) reopen(key endpointKey, failed endpoint) (endpoint, error) {
	a.changing.Lock()
	defer a.changing.Unlock()
	if a.endpoints[key] != failed || a.stopping {
		return nil, nil
	}
	in := failed.owner()
	settings := in.settings
	next, err := a.open(key, &settings)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	next.setOwner(in)
	a.endpoints[key] = next
	return next, nil
}

// rewind has all followed sources be read again from what stands on the disk,
// once change is made: each outlet passes over what it has. The caller holds
// changing.
func (a *Agent) rewind(change func()) {
	stopped := map[endpointKey]*followEndpoint{}
	for key, e := range a.endpoints {
		if f, is := e.(*followEndpoint); is && !f.over() {
			f.abandon()
			stopped[key] = f
		}
	}
	change()
	for key, f := range stopped {
		in := f.owner()
		settings := in.settings
		next, err := a.open(key, &settings)
		if err != nil { // as if it had failed: it is tried again
			a.log.Error("an intake cannot be opened again; it is tried again", "intake", settings.Name, "why", err)
			a.running.Go(func() { a.runEndpoint(key, f) })
			continue
		}
		a.mu.Lock()
		next.setOwner(in)
		a.endpoints[key] = next
		a.mu.Unlock()
		a.running.Go(func() { a.runEndpoint(key, next) })
	}
}

// runOutlet runs an outlet until it has left or is stopped. One that failed is
// begun again with what stands on the disk.
func (a *Agent) runOutlet(o outlet) {
	var last time.Duration
	for {
		begun := time.Now()
		part := outletPart(o.settled().Name)
		if !a.guard(part, o.run) && !o.down() {
			break
		}
		o.fail()
		for {
			if !a.rest(part, &last, time.Since(begun)) {
				a.faults.lose(part, lostOf(o))
				return
			}
			next, err := a.replace(o, part)
			if err == nil {
				o = next
				break
			}
			begun = time.Now()
			a.log.Error("an outlet that has failed cannot be begun again; it is tried again", "outlet", o.settled().Name, "why", err)
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.departed = slices.DeleteFunc(a.departed, func(other outlet) bool { return other == o })
}

// lostOf returns how many records an outlet held in memory that are not read again.
func lostOf(o outlet) int64 {
	held, again := o.inMemory()
	return held - again
}

// replace puts another outlet in the place of one that has failed. What that
// held in memory and cannot be read again is shed.
func (a *Agent) replace(failed outlet, part string) (outlet, error) {
	a.changing.Lock()
	defer a.changing.Unlock()
	if a.stopping {
		return nil, errStopping
	}
	next, err := a.newOutlet(failed.settled())
	if err != nil {
		return nil, err
	}
	a.rewind(func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		account := failed.snapshot()
		held, again := failed.inMemory()
		account.In -= again
		account.Shed += held - again
		next.carry(account)
		a.faults.lose(part, held-again)
		for _, list := range [][]outlet{a.outlets, a.departed} {
			if i := slices.Index(list, failed); i >= 0 {
				list[i] = next
			}
		}
		if failed.isLeaving() {
			next.leave()
		}
	})
	failed.replaced()
	return next, nil
}

var errStopping = errors.New("the agent stops")

// giveTo gives the records of a batch to an outlet. One that fails is out of use
// from then on, and what it has not got is shed, where it cannot be read again.
func (a *Agent) giveTo(o outlet, b *record.Batch, marks *route.Marks, number int, canWait bool) {
	if o.down() {
		a.shedAll(o, b, marks, number, 0)
		return
	}
	defer func() {
		if what := recover(); what != nil {
			o.fail()
			a.failed(outletPart(o.settled().Name), what)
			a.shedAll(o, b, marks, number, o.got())
		}
	}()
	o.take(b, marks, number, canWait)
}

// shedAll sheds the records of a batch that an outlet was to get, but for those
// that it has got and those of sources that are read again.
func (a *Agent) shedAll(o outlet, b *record.Batch, marks *route.Marks, number int, got int64) {
	lost := -got
	for i := range b.Records {
		if marks.Has(i, number) && b.Records[i].End == 0 {
			lost++
		}
	}
	if lost > 0 {
		o.shed(lost)
		a.faults.lose(outletPart(o.settled().Name), lost)
	}
}
