// Package agent is the part of Oak Barrel that runs on every host: it takes
// records in, walks the rules of its plan, and writes them out.
//
// An [Agent] has one plan in force. Its parts are packages of their own: the ways
// in (intake), the ways out (outlet), the files of other programs (tend), the link
// to the service (link), the socket over which commands ask (control), the state
// folder (state), and what keeps a fault of one from the others (guard). What the
// agent itself does is between them: it gives each batch of an intake to the
// outlets that the rules name (pass.go), changes one plan for another between two
// batches (reload.go), and begins again what has failed (supervise.go).
//
// [Run] is all that others call. It returns when the agent has stopped.
package agent

import (
	"cmp"
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

	"oakbarrel/agent/control"
	"oakbarrel/agent/guard"
	"oakbarrel/agent/intake"
	"oakbarrel/agent/link"
	"oakbarrel/agent/outlet"
	"oakbarrel/agent/state"
	"oakbarrel/agent/tend"
	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
	"oakbarrel/core/route"
	"oakbarrel/unit"
)

// Times that bound how an agent stops, so that it is gone within 10 s.
const (
	drainTime = 2 * time.Second // to read what the kernel holds
	writeTime = 6 * time.Second // to write down what is held
)

// takeTime is how long the parts of an agent may take to take over the sockets of the run before.
const takeTime = 10 * time.Second

// Options says how to run an agent.
type Options struct {
	PlanFile string
	StateDir string
	// Host is the name of this host where the plan says none, "" for the machine's.
	Host string
	// BoundsFile says what a plan from the service may do, "" for the usual file.
	BoundsFile string
	Log        *slog.Logger
	// LogLevel is what Log tells at least, nil where that is not to be changed.
	LogLevel *slog.LevelVar
	// Ready is called once every intake is open.
	Ready func()
	// Unit is the service manager that has started the agent, nil for none. Under one an
	// intake that cannot be opened keeps the agent from nothing else: it is tried again.
	Unit *unit.Manager
	// Reload delivers a value when the plan is to be read again.
	Reload <-chan os.Signal
}

// Agent takes records in and writes them out as its plan says.
type Agent struct {
	options Options
	log     *slog.Logger
	state   *state.Folder
	guard   *guard.Guard
	since   time.Time
	ending  context.Context // done when the agent is to stop
	end     context.CancelFunc
	running sync.WaitGroup

	memory *intake.Budget
	told   *outlet.History
	tended *tend.Keeper
	meter  meter

	openEndpoint func(intake.Key, *plan.Intake) (intake.Endpoint, error)
	openOutlet   func(plan.Outlet) (outlet.Outlet, error)

	// changing is held while endpoints and outlets are opened and put in the place
	// of others: by a new plan, and where one is begun again that has failed.
	changing sync.Mutex
	stopping bool // nothing is begun any more
	patient  bool // an intake that cannot be opened is tried again

	// mu is held for reading while a batch is passed, and for writing by
	// what must fall between two batches: a new plan, a look at the counters.
	mu        sync.RWMutex
	plan      *plan.Plan
	named     []byte       // the name of the host, which is not changed in place
	table     *route.Table // of the plan, with its detail windows open
	details   []client.Detail
	pauses    []client.Pause
	level     slog.Level // of the agent's own log, without a window
	readAt    time.Time
	fileHash  string       // of the plan's file as it was read
	served    *servedPlans // what the service had this agent take; it has a lock of its own
	refused   *client.Refusal
	intakes   []*intake.Intake
	outlets   []outlet.Outlet // in the order of the plan, as the table numbers them
	endpoints map[intake.Key]intake.Endpoint
	leaving   []*intake.Intake // removed, and being read empty
	departed  []outlet.Outlet  // removed, and writing down what they hold
	gone      balance.Intake
	forecast  forecast.Report
	ordered   *intake.Intake // of the records that were ordered, nil where none was
	repeats   *intake.Intake // of the records that tell of repeats, likewise

	tracing   atomic.Pointer[traceWatch] // nil where no record was ever traced
	delivered chan struct{}              // signalled after each batch that is confirmed
	toReload  chan struct{}              // somebody has asked for the plan to be read again

	in, routed, dropped, limited, folded atomic.Int64
}

// Run runs an agent until ctx ends, then stops taking and writes down what is
// held. An error says why it could not start: a [PlanError], an [IntakeError], or
// one of its state folder.
func Run(ctx context.Context, options Options) error {
	file, err := filepath.Abs(options.PlanFile)
	if err != nil {
		return err
	}
	options.PlanFile = file
	p, findings, err := plan.Load(file)
	if err != nil {
		return err
	}
	if findings.Refused() {
		return &PlanError{findings}
	}
	a, err := open(options)
	if err != nil {
		return err
	}
	defer a.state.Close()
	defer a.end()
	if p, findings, err = a.wholePlan(p, findings); err == nil {
		a.patient = options.Unit.Manages()
		err = a.adopt(p, findings)
		a.patient = false
	}
	if err != nil {
		a.stop()
		return err
	}
	time.AfterFunc(takeTime, options.Unit.CloseOthers)
	asked, err := a.beginParts()
	if err != nil {
		a.stop()
		return err
	}
	defer asked()
	a.log.Info("agent is ready", "host", a.host(), "plan", p.File, "hash", p.Hash(), "state", options.StateDir)
	if len(p.Intakes) == 0 {
		a.log.Warn("the plan has no intakes, so nothing is heard")
	}
	options.Ready()
	options.Unit.Ready()
	for {
		select {
		case <-ctx.Done():
			a.log.Info("agent stops")
			a.stop()
			a.log.Info("agent has stopped", "records_in", a.in.Load())
			return nil
		case <-options.Reload:
		case <-a.toReload:
		}
		options.Unit.Reloading()
		a.guard.Run("plan", a.reload)
		options.Unit.Ready()
	}
}

// open makes an agent with its state folder, without a plan.
func open(options Options) (*Agent, error) {
	own := intake.NewOwnLog()
	log := slog.New(own.Handler(options.Log.Handler()))
	folder, err := state.Open(options.StateDir, log)
	if err != nil {
		return nil, err
	}
	a := &Agent{options: options, log: log, state: folder, since: time.Now(), memory: &intake.Budget{}, told: outlet.NewHistory(folder),
		endpoints: map[intake.Key]intake.Endpoint{}, details: readDetails(folder), pauses: readPauses(folder), delivered: make(chan struct{}, 1), toReload: make(chan struct{}, 1),
		forecast: forecast.Report{Sets: []forecast.Set{}, Disks: []forecast.Disk{}}}
	a.served = a.readServed()
	if options.LogLevel != nil {
		a.level = options.LogLevel.Level()
	}
	a.ending, a.end = context.WithCancel(context.Background())
	a.guard = guard.New(a.ending, log)
	a.meter.figures = figuresOf(a)
	a.tended = tend.NewKeeper(log, a.tends, a.isUnread)
	ways := &intake.Agent{Log: log, State: folder, Guard: a.guard, Memory: a.memory, Own: own, Ending: a.ending, HostName: a.hostName, Unit: options.Unit,
		Pass: a.pass, Taken: a.takenOf, Forget: a.forgetSources}
	out := &outlet.Agent{Log: log, State: folder, Guard: a.guard, Told: a.told, HostName: a.hostName,
		AllRead: a.allRead, Delivered: a.signalDelivery, Outlets: a.inForce, BetweenBatches: a.betweenBatches}
	a.openEndpoint, a.openOutlet = ways.Open, out.Open
	return a, nil
}

// beginParts begins what runs beside intakes and outlets. It returns what ends the
// answering of commands.
func (a *Agent) beginParts() (end func(), err error) {
	for _, d := range a.details {
		time.AfterFunc(time.Until(d.Until), a.closeExpired)
	}
	for _, p := range a.pauses {
		time.AfterFunc(time.Until(p.Until), a.endPauses)
	}
	asked, err := control.Serve(a.state.Dir(), a, a.guard)
	if err != nil {
		return nil, err
	}
	toService := &link.Link{Agent: a, Delivered: a.delivered}
	parts := map[string]func(){
		"report":   func() { toService.Report(a.ending) },
		"orders":   func() { toService.Obey(a.ending) },
		"tend":     func() { a.tended.Run(a.ending) },
		"repeats":  a.tellRepeats,
		"forecast": a.makeForecasts,
		"vitals":   a.keepVitals,
		"absent":   a.openAbsent,
		"unit":     a.tellUnit,
	}
	for part, run := range parts {
		a.running.Go(func() { a.guard.Keep(part, run) })
	}
	return func() { asked.Close() }, nil
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
func (a *Agent) host() string { return string(a.named) }

// nameOf returns the name of the host that a plan is for: that of the plan, that with which
// the agent was started, or the machine's.
func (a *Agent) nameOf(p *plan.Plan) []byte {
	name := cmp.Or(p.Host, a.options.Host)
	if name == "" {
		name, _ = os.Hostname()
	}
	return []byte(name)
}

// hostName is host for those who do not hold the lock.
func (a *Agent) hostName() string {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.host()
}

// inForce returns the outlets in force, in the order of the plan.
func (a *Agent) inForce() []outlet.Outlet {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return slices.Clone(a.outlets)
}

// betweenBatches has a look at the outlets while no batch is passed.
func (a *Agent) betweenBatches(look func([]outlet.Outlet)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	look(a.outlets)
}

// tends returns what the plan in force has the agent tend.
func (a *Agent) tends() []plan.Tend {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.plan.Tends
}

// AgentID returns the identity of the agent.
func (a *Agent) AgentID() string { return a.state.AgentID() }

// TokenFor returns the token that the store gave this agent in the place of one.
func (a *Agent) TokenFor(token string) string { return a.state.TokenFor(token) }

// Service returns the service of the plan in force.
func (a *Agent) Service() plan.Service {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.plan.Service
}

// PlanInForce returns the plan as the service keeps it.
func (a *Agent) PlanInForce() client.AgentPlan {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return client.AgentPlan{Hash: a.plan.Hash(), Text: string(a.plan.Source)}
}

// signalDelivery tells the report that a batch is confirmed.
func (a *Agent) signalDelivery() {
	select {
	case a.delivered <- struct{}{}:
	default:
	}
}

// stop stops taking, writes down, and closes everything.
func (a *Agent) stop() {
	a.options.Unit.Stopping()
	a.changing.Lock()
	a.stopping = true
	endpoints := slices.Collect(maps.Values(a.endpoints))
	a.changing.Unlock()
	drainWithin(drainTime, func() {}, endpoints...)
	a.end() // what is held back by a full outlet is not taken any more
	drainWithin(time.Second, func() {}, endpoints...)
	deadline := time.Now().Add(writeTime)
	for _, o := range a.lastOutlets() {
		o.Stop(deadline)
	}
	a.running.Wait()
	a.meter.close()
}

func (a *Agent) lastOutlets() []outlet.Outlet {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.guard.Run("repeats", func() { a.giveRepeats(true) })
	return slices.Concat(a.outlets, a.departed)
}
