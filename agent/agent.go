// Package agent is the part of Oak Barrel that runs on every host: it takes
// records in, walks the rules of its plan, and writes them out.
//
// It stands around the core and may use the network and the terminal's
// signals, but no database. Its central type is [Agent].
package agent

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// Times that bound how an agent stops, so that it is gone within 10 s.
const (
	drainTime = 2 * time.Second // to read what the kernel holds
	writeTime = 6 * time.Second // to write down what is held
)

// Options says how to run an agent.
type Options struct {
	PlanFile string
	StateDir string
	Log      *slog.Logger
	// Ready is called once every intake is open.
	Ready func()
	// Reload delivers a value when the plan is to be read again.
	Reload <-chan os.Signal
}

// Agent takes records in and writes them out as its plan says.
type Agent struct {
	options Options
	log     *slog.Logger
	own     *ownRecords
	state   *state
	since   time.Time
	ending  context.Context // done when the agent is to stop
	end     context.CancelFunc

	// changing is held while endpoints and outlets are opened and put in the place
	// of others: by a new plan, and where one is begun again that has failed.
	changing sync.Mutex
	stopping bool // nothing is begun any more
	faults   faults
	memory   budget
	places   places

	// mu is held for reading while a batch is passed, and for writing by
	// what must fall between two batches: a new plan, a look at the counters.
	mu        sync.RWMutex
	plan      *plan.Plan
	table     *route.Table // of the plan, with its detail windows open
	details   []Detail
	told      *history
	readAt    time.Time
	refused   *Refusal
	intakes   []*intake
	outlets   []outlet // in the order of the plan, as the table numbers them
	endpoints map[endpointKey]endpoint
	leaving   []*intake // removed, and being read empty
	departed  []outlet  // removed, and writing down what they hold
	gone      balance.Intake
	tended    []TendedFile
	tendRolls chan tendRoll
	forecast  forecast.Report
	ordered   *intake // of the records that were ordered, nil where none was
	repeats   *intake // of the records that tell of repeats, likewise

	tracing    atomic.Pointer[traceWatch] // nil where no record was ever traced
	deliveries chan struct{}              // signalled after each batch that is confirmed

	in, routed, dropped, limited, folded atomic.Int64
	running                              sync.WaitGroup
}

// Run runs an agent until ctx ends, then stops taking and writes down what is
// held. An error says why it could not start.
func Run(ctx context.Context, options Options) error {
	own := &ownRecords{queue: make(chan ownRecord, ownQueue)}
	a := &Agent{options: options, log: slog.New(&ownLog{Handler: options.Log.Handler(), to: own}), own: own, since: time.Now(), endpoints: map[endpointKey]endpoint{}, deliveries: make(chan struct{}, 1), tendRolls: make(chan tendRoll),
		tended: []TendedFile{}, forecast: forecast.Report{Sets: []forecast.Set{}, Disks: []forecast.Disk{}}}
	a.ending, a.end = context.WithCancel(context.Background())
	defer a.end()
	file, err := filepath.Abs(options.PlanFile)
	if err != nil {
		return err
	}
	a.options.PlanFile = file
	p, findings, err := plan.Load(file)
	if err != nil {
		return err
	}
	if findings.Refused() {
		return &PlanError{findings}
	}
	if a.state, err = openState(options.StateDir, a.log); err != nil {
		return err
	}
	defer a.state.close()
	a.details = a.state.readDetails()
	a.told = newHistory(a.state)
	if err := a.adopt(p, findings); err != nil {
		a.stop()
		return err
	}
	for _, d := range a.details {
		time.AfterFunc(time.Until(d.Until), a.closeExpired)
	}
	control, err := a.serveControl()
	if err != nil {
		a.stop()
		return err
	}
	defer control.Close()
	for part, run := range map[string]func(){"report": a.report, "orders": a.obey, "repeats": a.tellRepeats, "tend": a.tend} {
		a.running.Go(func() { a.keep(part, run) })
	}
	a.log.Info("agent is ready", "host", a.host(), "plan", p.File, "hash", p.Hash(), "state", options.StateDir)
	if len(p.Intakes) == 0 {
		a.log.Warn("the plan has no intakes, so nothing is heard")
	}
	options.Ready()
	for {
		select {
		case <-ctx.Done():
			a.log.Info("agent stops")
			a.stop()
			a.log.Info("agent has stopped", "records_in", a.in.Load())
			return nil
		case <-options.Reload:
			a.guard("plan", a.reload)
		}
	}
}

// PlanError says that the plan has errors.
type PlanError struct{ Findings plan.Findings }

func (e *PlanError) Error() string {
	first := slices.IndexFunc(e.Findings, func(f plan.Finding) bool { return !f.Warning })
	if more := len(e.Findings) - 1; more > 0 {
		return fmt.Sprintf("%s (and %d more findings)", e.Findings[first], more)
	}
	return e.Findings[first].String()
}

// host returns the name of the host, as the plan or the machine has it.
func (a *Agent) host() string {
	if a.plan.Host != "" {
		return a.plan.Host
	}
	name, _ := os.Hostname()
	return name
}

// hostName is host for those who do not hold the lock.
func (a *Agent) hostName() string {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.host()
}

// pass gives the records of b to the outlets that the rules name, and counts
// them. It returns when nobody needs b any more. An intake that can wait is
// held back while an outlet of its records is full; it is told by false that
// the agent stops and has not taken them.
func (a *Agent) pass(b *record.Batch, marks *route.Marks, from endpoint, canWait bool) bool {
	from.lands() // what becomes of them is counted here
	markClaims(b, from)
	if !b.Whole() {
		panic("a record of a source stands in a batch without its mark")
	}
	for {
		room := a.passOnce(b, marks, from, canWait)
		if room == nil {
			return true
		}
		select {
		case <-room:
		case <-from.quits():
			return false
		case <-a.ending.Done():
			return false
		}
	}
}

// passOnce passes a batch on, or returns the channel that tells of room in an
// outlet that is full. A batch that it fails with is read, and was not readable,
// but for what is read again.
func (a *Agent) passOnce(b *record.Batch, marks *route.Marks, from endpoint, canWait bool) (room <-chan struct{}) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	in := from.owner()
	done := false
	defer func() {
		if !done {
			a.loseBatch(b, in)
		}
	}()
	for i := range b.Records {
		b.Records[i].Intake = in.settings.Name
	}
	boundary("pass")
	counts := a.table.Mark(b, marks)
	if canWait {
		if room = a.fullOutlet(b, marks); room != nil {
			marks.Undo(b) // by the next try there may be another plan
			done = true
			return room
		}
	}
	in.count(b)
	done = true // from here on an outlet that fails answers for itself
	a.give(b, marks, counts, in, canWait)
	return nil
}

// loseBatch counts the records of a batch that could not be passed on.
func (a *Agent) loseBatch(b *record.Batch, in *intake) {
	lost := int64(0)
	for i := range b.Records {
		if b.Records[i].End == 0 {
			lost++
		}
	}
	in.read.Add(lost)
	in.unreadable.Add(lost)
	a.faults.lose(intakePart(in.settings.Name), lost)
}

// give counts the records of b, which are marked, and gives them to the outlets.
func (a *Agent) give(b *record.Batch, marks *route.Marks, counts route.Counts, in *intake, canWait bool) {
	a.in.Add(int64(counts.In))
	a.routed.Add(int64(counts.Routed))
	a.dropped.Add(int64(counts.Dropped))
	a.limited.Add(int64(counts.Limited))
	a.folded.Add(int64(counts.Folded))
	for i, o := range a.outlets {
		a.giveTo(o, b, marks, i, canWait)
	}
	if w := a.tracing.Load(); w != nil {
		w.look(a, b, marks, in)
	}
}

// fullOutlet returns the channel that tells of room in an outlet that is full
// and has to take a record of b, nil where none is.
func (a *Agent) fullOutlet(b *record.Batch, marks *route.Marks) <-chan struct{} {
	for number, o := range a.outlets {
		room := o.waitForRoom()
		if room == nil {
			continue
		}
		for i := range b.Records {
			if marks.Has(i, number) {
				return room
			}
		}
	}
	return nil
}

// stop stops taking, writes down, and closes everything.
func (a *Agent) stop() {
	a.changing.Lock()
	a.stopping = true
	endpoints := slices.Collect(maps.Values(a.endpoints))
	a.changing.Unlock()
	drainWithin(drainTime, func() {}, endpoints...)
	a.end() // what is held back by a full outlet is not taken any more
	drainWithin(time.Second, func() {}, endpoints...)
	deadline := time.Now().Add(writeTime)
	for _, o := range a.lastOutlets() {
		o.stop(deadline)
	}
	a.running.Wait()
}

func (a *Agent) lastOutlets() []outlet {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.guard("repeats", func() { a.giveRepeats(true) })
	return slices.Concat(a.outlets, a.departed)
}
