package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/intake"
	"oakbarrel/client"
	"oakbarrel/core/fleet"
	"oakbarrel/core/plan"
)

// servedFile is the name of what the service had an agent take, in its state folder.
const servedFile = "served.json"

// servedPlan is a plan as the service gave it; the zero servedPlan is none.
type servedPlan struct {
	Plan     string `json:"plan"`
	Revision int    `json:"revision"`
	Text     string `json:"text"`
}

// servedNote is what is written down before a plan is taken, and once it is kept or taken
// back: an agent that is killed between begins with exactly one of the two.
type servedNote struct {
	InForce servedPlan         `json:"in_force"`
	Before  servedPlan         `json:"before"` // which it goes back to
	Tried   servedPlan         `json:"tried"`  // which was not kept
	State   client.ServedState `json:"state"`
	Until   time.Time          `json:"until"`
	Why     string             `json:"why"`
	Order   uint64             `json:"order"`
}

// servedPlans has what the service had an agent take. The lock is for the note; it is
// taken behind that of the agent.
type servedPlans struct {
	taking sync.Mutex // held while a plan is changed by order, taken before changing

	mu     sync.Mutex
	note   servedNote
	local  string             // the host's own file as it was read last
	bounds string             // the file of the bounds, which does not change
	judge  context.CancelFunc // ends the judging that is under way, nil for none

	vitals []vitalsAt // the oldest first
}

type vitalsAt struct {
	at time.Time
	fleet.Vitals
}

func (s *servedPlans) get() servedNote {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.note
}

// status tells how it stands with what is served, nil where the host keeps a plan of its own.
func (s *servedPlans) status(p *plan.Plan) *client.ServedPlan {
	if !p.Served {
		return nil
	}
	n := s.get()
	told := &client.ServedPlan{Plan: n.InForce.Plan, Revision: n.InForce.Revision, State: n.State, Tried: n.Tried.Plan, TriedAt: n.Tried.Revision, Why: n.Why, Order: n.Order, Bounds: s.bounds}
	if n.InForce.Text != "" {
		told.Hash = plan.Hash([]byte(n.InForce.Text))
	}
	if n.State == client.Judged {
		told.Until = &n.Until
	}
	return told
}

// fileHash returns the hash of the file that a plan was read from.
func (s *servedPlans) fileHash(p *plan.Plan) string {
	if !p.Served {
		return p.Hash()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return plan.Hash([]byte(s.local))
}

func labelsOf(p *plan.Plan) map[string]string {
	labels := map[string]string{}
	for _, l := range p.Labels {
		labels[l.Name] = l.Value
	}
	return labels
}

// readServed reads what the agent had taken. A plan that was not kept yet is taken back.
func (a *Agent) readServed() *servedPlans {
	s := &servedPlans{note: servedNote{State: client.NoPlan}, bounds: cmp.Or(a.options.BoundsFile, plan.BoundsFile)}
	if err := a.state.Load(servedFile, &s.note); err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			a.log.Error("the plan that was served is not known any more; the service gives it again", "why", err)
		}
		return s
	}
	if s.note.State == client.Judged {
		s.note = s.note.back("the agent ended before the plan was kept")
		a.saveServed(s, s.note)
	}
	return s
}

// back returns the note of a plan that is taken back.
func (n servedNote) back(why string) servedNote {
	return servedNote{InForce: n.Before, Tried: n.InForce, State: client.TakenBack, Why: why, Order: n.Order}
}

func (a *Agent) saveServed(s *servedPlans, n servedNote) error {
	s.mu.Lock()
	s.note = n
	s.mu.Unlock()
	err := a.state.Save(servedFile, n)
	if err != nil {
		a.log.Error("what the service serves cannot be written down", "why", err)
	}
	return err
}

// bounds returns what a plan from the service may do here.
func (a *Agent) bounds() (*plan.Bounds, error) {
	b, findings, err := plan.LoadBounds(a.served.bounds, a.state.Dir())
	if err == nil && b == nil {
		err = &PlanError{findings}
	}
	if err != nil {
		return nil, fmt.Errorf("the bounds of this host cannot be read, so no plan is taken from the service: %w", err)
	}
	return b, nil
}

// wholePlan returns the plan of a host's file, or what it is with the plan that the
// service has served. Where that is not allowed any more, nothing of it is in force.
func (a *Agent) wholePlan(local *plan.Plan, findings plan.Findings) (*plan.Plan, plan.Findings, error) {
	if !local.Served {
		return local, findings, nil
	}
	a.served.mu.Lock()
	a.served.local = string(local.Source)
	a.served.mu.Unlock()
	n := a.served.get()
	if n.InForce.Text == "" {
		return local, findings, nil
	}
	p, more, err := a.join(n.InForce)
	if err == nil && p == nil {
		err = &PlanError{more}
	}
	if err == nil {
		return p, append(findings, more...), nil
	}
	if a.hasPlan() { // it goes on with what it has
		return nil, nil, err
	}
	a.log.Error("the plan that was served is not in force", "plan", n.InForce.Plan, "revision", n.InForce.Revision, "why", err)
	n = n.back(err.Error())
	n.InForce = servedPlan{}
	return local, findings, a.saveServed(a.served, n)
}

// join reads a plan of the service with what this host adds. The plan is nil where the
// findings refuse it.
func (a *Agent) join(s servedPlan) (*plan.Plan, plan.Findings, error) {
	a.served.mu.Lock()
	local := a.served.local
	a.served.mu.Unlock()
	if s.Text == "" {
		p, findings := plan.Parse(a.options.PlanFile, []byte(local))
		return p, findings, nil
	}
	bounds, err := a.bounds()
	if err != nil {
		return nil, nil, err
	}
	p, findings := plan.LoadServed(s.Plan+".yaml", []byte(s.Text), []byte(local), bounds)
	if p != nil {
		p.File = a.options.PlanFile
	}
	return p, findings, nil
}

// notServed says why a host takes no plan.
const notServed = "this host keeps a plan of its own (plan: own)"

func (a *Agent) hasPlan() bool {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.plan != nil
}

func (a *Agent) isServed() bool {
	a.mu.RLock()
	defer a.mu.RUnlock()
	return a.plan.Served
}

// judgePlan tells what would be wrong with a plan here.
func (a *Agent) judgePlan(o client.Order) client.Outcome {
	if !a.isServed() {
		return client.Outcome{Why: notServed}
	}
	p, findings, err := a.join(servedPlan{o.Plan, o.Revision, o.Text})
	outcome := outcomeOf(findings, err)
	if p != nil {
		for _, taken := range a.taken(p) {
			outcome.Findings, outcome.Why = append(outcome.Findings, taken.Error()), cmp.Or(outcome.Why, taken.Error())
		}
	}
	return outcome
}

// taken tells which ports of a plan others have: neither is open here, nor can be opened.
func (a *Agent) taken(p *plan.Plan) (errs []error) {
	a.changing.Lock() // which keeps the endpoints as they are
	defer a.changing.Unlock()
	for _, in := range p.Intakes {
		for _, key := range intake.KeysOf(in) {
			if a.endpoints[key] != nil || a.hasInTheWay(key) {
				continue
			}
			if err := key.TryPort(); err != nil {
				errs = append(errs, &IntakeError{in.Name, key.String(), err})
			}
		}
	}
	if at := p.Metrics.Listen; at != "" && at != a.meter.listen {
		if err := intake.TryTCP(at); err != nil {
			errs = append(errs, &MetricsError{at, err})
		}
	}
	return errs
}

// hasInTheWay tells whether an endpoint of this agent has the port of another, for which
// it makes way. It is called with changing held.
func (a *Agent) hasInTheWay(key intake.Key) bool {
	for own, e := range a.endpoints {
		if own.IsInTheWay(e, key) {
			return true
		}
	}
	return false
}

func outcomeOf(findings plan.Findings, err error) (o client.Outcome) {
	for _, f := range findings {
		o.Findings = append(o.Findings, f.String())
	}
	switch {
	case err != nil:
		o.Why = err.Error()
	case findings.Refused():
		o.Why = (&PlanError{findings}).Error()
	}
	return o
}

// takePlan puts a plan of the service in force. It is judged for as long as the order
// says, beside the other orders, and goes back by itself where it does harm.
func (a *Agent) takePlan(o client.Order) client.Outcome {
	a.served.taking.Lock()
	defer a.served.taking.Unlock()
	if !a.isServed() {
		return client.Outcome{Why: notServed}
	}
	old, next := a.served.get(), servedPlan{o.Plan, o.Revision, o.Text}
	if o.ID == old.Order { // it was taken, and the service has not heard of it
		return client.Outcome{Text: "it was taken before", Why: old.Why}
	}
	if old.InForce == next && old.State != client.Judged {
		return client.Outcome{Text: "it is in force already"}
	}
	p, findings, err := a.join(next)
	if outcome := outcomeOf(findings, err); outcome.Why != "" {
		return outcome
	}
	a.endJudging()
	wait := time.Duration(o.Seconds) * time.Second
	n := servedNote{InForce: next, Before: old.InForce, State: client.Judged, Until: time.Now().Add(wait), Order: o.ID}
	if old.State == client.Judged {
		n.Before = old.Before
	}
	if wait == 0 {
		n = servedNote{InForce: next, State: client.Kept, Order: o.ID}
	}
	if next.Text == "" {
		n.State = client.NoPlan
	}
	at, before := a.takeVitals(), a.vitalsBefore(wait)
	if err := a.saveServed(a.served, n); err != nil {
		a.saveServed(a.served, old)
		return client.Outcome{Why: fmt.Sprintf("it cannot be written down: %v", err)}
	}
	if err := a.adopt(p, findings); err != nil {
		a.saveServed(a.served, old)
		if old.State == client.Judged {
			a.beginJudging(old, at, before)
		}
		return client.Outcome{Why: err.Error()}
	}
	a.log.Info("a plan of the service is taken", "plan", next.Plan, "revision", next.Revision, "judged_for", wait)
	outcome := outcomeOf(findings, nil)
	outcome.Text = "it is in force"
	if wait > 0 {
		outcome.Text = "it is in force, and judged until " + n.Until.UTC().Format(time.RFC3339)
		a.beginJudging(n, at, before)
	}
	return outcome
}

func (a *Agent) endJudging() {
	a.served.mu.Lock()
	end := a.served.judge
	a.served.judge = nil
	a.served.mu.Unlock()
	if end != nil {
		end()
	}
}

// judgeTime is between two looks at a plan that is judged, and between two tries to go
// back to the plan before.
const judgeTime = time.Second

// troubleTime is for how long what is in trouble at the end may come out of it.
const troubleTime = 15 * time.Second

// beginJudging judges the plan in force until its time is over.
func (a *Agent) beginJudging(n servedNote, at, before fleet.Vitals) {
	ctx, end := context.WithCancel(a.ending)
	a.served.mu.Lock()
	a.served.judge = end
	a.served.mu.Unlock()
	a.running.Go(func() {
		defer end()
		a.guard.Run("plan", func() { a.judge(ctx, n, at, before) })
	})
}

func (a *Agent) judge(ctx context.Context, n servedNote, at, before fleet.Vitals) {
	taken, half := time.Now(), at
	for harm, told := "", false; ; {
		pause := judgeTime
		if left := time.Until(n.Until); left > 0 {
			pause = min(pause, left)
		}
		guard.Pause(ctx, pause)
		if ctx.Err() != nil {
			return
		}
		if !told {
			if time.Until(n.Until) > time.Since(taken) {
				half = a.takeVitals()
			}
			harm, told = a.harmOf(n, before, at, half)
		}
		if told && a.settle(ctx, n, harm) {
			a.signalDelivery() // which has the service told
			return
		}
	}
}

// harmOf tells what harm a plan does, "" for none; told is false for as long as that
// cannot be told yet.
func (a *Agent) harmOf(n servedNote, before, at, half fleet.Vitals) (harm string, told bool) {
	now, ended := a.takeVitals(), !time.Now().Before(n.Until)
	if harm = fleet.Harm(before, at, half, now, ended); harm != "" {
		return harm, true
	}
	trouble := fleet.Trouble(at, now)
	if !ended || trouble != "" && time.Since(n.Until) < troubleTime {
		return "", false
	}
	return trouble, true
}

// settle keeps a plan that was judged, or takes it back. It tells whether that is done.
func (a *Agent) settle(ctx context.Context, n servedNote, harm string) (done bool) {
	a.served.taking.Lock()
	defer a.served.taking.Unlock()
	if ctx.Err() != nil || !a.isServed() { // another was taken meanwhile
		return true
	}
	if harm == "" {
		a.log.Info("the plan of the service is kept", "plan", n.InForce.Plan, "revision", n.InForce.Revision)
		return a.saveServed(a.served, servedNote{InForce: n.InForce, State: client.Kept, Order: n.Order}) == nil
	}
	p, findings, err := a.join(n.Before)
	if err == nil && p == nil {
		err = &PlanError{findings}
	}
	if err == nil {
		err = a.adopt(p, findings)
	}
	if err != nil {
		a.log.Error("the plan before cannot be put in force again yet", "why", err)
		return false
	}
	a.log.Error("the plan of the service is taken back", "plan", n.InForce.Plan, "revision", n.InForce.Revision, "why", harm)
	a.saveServed(a.served, n.back(harm))
	return true
}
