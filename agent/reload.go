package agent

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// reload reads the plan's file again. A plan that is refused changes nothing.
func (a *Agent) reload() {
	p, findings, err := plan.Load(a.options.PlanFile)
	if err == nil && !findings.Refused() {
		p, findings, err = a.wholePlan(p, findings)
	}
	switch {
	case err != nil:
		a.refuse(err.Error(), nil)
	case findings.Refused():
		a.refuse((&PlanError{findings}).Error(), findings)
	default:
		if err := a.adopt(p, findings); err != nil {
			a.refuse(err.Error(), nil)
			return
		}
		a.log.Info("the plan is taken", "file", p.File, "hash", p.Hash())
	}
}

func (a *Agent) refuse(why string, findings plan.Findings) {
	r := &client.Refusal{At: time.Now(), Why: why, Findings: []string{}}
	for _, f := range findings {
		r.Findings = append(r.Findings, f.String())
	}
	a.mu.Lock()
	a.refused = r
	a.mu.Unlock()
	a.log.Error("the plan is not taken, the one before stays in force", "why", why)
}

// adopt puts a plan in force. What can fail comes first: it opens what is new.
// Then, between two batches, the plans change places. Then what is no longer
// in the plan is read empty and closed.
func (a *Agent) adopt(p *plan.Plan, findings plan.Findings) error {
	a.changing.Lock()
	defer a.changing.Unlock()
	for _, f := range findings {
		a.log.Warn("the plan has a warning", "at", fmt.Sprintf("%s:%d:%d", f.File, f.Line, f.Column), "what", f.What, "mend", f.Mend)
	}
	outlets, fresh, err := a.outletsOf(p)
	if err != nil {
		return err
	}
	change, err := a.openEndpoints(p)
	if err != nil {
		a.undo(change)
		return err
	}
	if err := a.openMetrics(p); err != nil {
		a.undo(change)
		return err
	}

	began := a.strangers(outlets)
	removedIntakes, removed := a.changePlaces(p, outlets, began, change)
	a.saveOutlets()
	for _, o := range fresh {
		a.running.Go(func() { a.runOutlet(o) })
	}
	for key, e := range change.opened {
		a.running.Go(func() { a.runEndpoint(key, e) })
	}
	drainWithin(drainTime, func() { a.bury(removedIntakes) }, removed...)
	if err := a.state.SavePlan(p.Source); err != nil {
		a.log.Warn("the copy of the plan cannot be written", "why", err)
	}
	return nil
}

// changePlaces puts a plan in force, between two batches. It returns what is in it no more.
func (a *Agent) changePlaces(p *plan.Plan, outlets, began []outlet.Outlet, c change) (intakes []*intake.Intake, endpoints []intake.Endpoint) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.giveRepeats(true)
	a.beginOutlets(began, c.all)
	a.plan, a.named, a.readAt, a.refused, a.fileHash = p, a.nameOf(p), time.Now(), nil, a.served.fileHash(p)
	a.memory.Apply(p)
	a.keepPauses(p)
	a.keepDetails(p, a.details)
	intakes = a.replaceIntakes(p.Intakes)
	endpoints = a.replaceEndpoints(c.all)
	a.replaceOutlets(p.Outlets, outlets)
	return intakes, endpoints
}

// change is what a new plan does to the endpoints.
type change struct {
	all    map[intake.Key]intake.Endpoint // those of the new plan
	opened map[intake.Key]intake.Endpoint // new, and not read from yet
	closed []intake.Key                   // made way for a new one
}

// openEndpoints opens the endpoints of a plan that are not open already.
func (a *Agent) openEndpoints(p *plan.Plan) (c change, err error) {
	c.all, c.opened = map[intake.Key]intake.Endpoint{}, map[intake.Key]intake.Endpoint{}
	for _, s := range p.Intakes {
		for _, key := range intake.KeysOf(s) {
			c.all[key] = a.endpoints[key] // nil for now where it is new
		}
	}
	for _, s := range p.Intakes {
		for _, key := range intake.KeysOf(s) {
			if c.all[key] != nil {
				if err := key.Usable(&s.Syslog); err != nil {
					return c, &IntakeError{s.Name, key.String(), err}
				}
				continue
			}
			e, err := a.openEndpoint(key, &s)
			if intake.IsTaken(err) && a.makeWay(key, &c) {
				e, err = a.openEndpoint(key, &s)
			}
			if err != nil && a.patient {
				err = &IntakeError{s.Name, key.String(), err}
				a.log.Error("an intake cannot be opened; it is tried again", "why", err)
				e, err = intake.NewAbsent(key, err.Error()), nil
			}
			if err != nil {
				return c, &IntakeError{s.Name, key.String(), err}
			}
			c.all[key] = e
			c.opened[key] = e
		}
	}
	return c, nil
}

// IntakeError says that an intake cannot be opened.
type IntakeError struct {
	Intake, Address string
	Err             error
}

func (e *IntakeError) Error() string {
	what, mend := intake.WhyNotOpen(e.Address, e.Err)
	if mend != "" {
		what += "; " + mend
	}
	return fmt.Sprintf("intake %s: %s", e.Intake, what)
}

func (e *IntakeError) Unwrap() error { return e.Err }

// makeWay closes the endpoints that are to go and have the port of a new one,
// on other addresses, or follow its files: both cannot be open at a time.
func (a *Agent) makeWay(key intake.Key, c *change) bool {
	found := false
	for old, e := range a.endpoints {
		if _, stays := c.all[old]; !stays && old.IsInTheWay(e, key) {
			drainWithin(drainTime, func() {}, e)
			c.closed = append(c.closed, old)
			found = true
		}
	}
	return found
}

// drainWithin drains endpoints, and calls drained when all of them are. It
// waits for that no longer than the given time: an intake that is held back
// by a full outlet goes on by itself.
func drainWithin(limit time.Duration, drained func(), endpoints ...intake.Endpoint) {
	deadline := time.Now().Add(limit)
	var draining sync.WaitGroup
	for _, e := range endpoints {
		draining.Go(func() { e.Drain(deadline) })
	}
	done := make(chan struct{})
	go func() {
		draining.Wait()
		drained()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(limit):
	}
}

// undo takes back what openEndpoints did for a plan that is not taken.
func (a *Agent) undo(c change) {
	for _, e := range c.opened {
		e.Close()
	}
	for _, key := range c.closed {
		in := a.endpoints[key].Owner().Settings() // which only this goroutine changes
		e, err := a.openEndpoint(key, &in)
		if err != nil {
			a.log.Error("an intake that made way for the refused plan cannot be opened again", "address", key.String(), "why", err)
			continue
		}
		a.mu.Lock()
		e.SetOwner(a.endpoints[key].Owner())
		a.endpoints[key] = e
		a.mu.Unlock()
		a.running.Go(func() { a.runEndpoint(key, e) })
	}
}

// replaceEndpoints puts endpoints in force and returns those that are not among them.
func (a *Agent) replaceEndpoints(all map[intake.Key]intake.Endpoint) (removed []intake.Endpoint) {
	for key, e := range a.endpoints {
		if all[key] == nil {
			removed = append(removed, e)
		}
	}
	for _, in := range a.intakes {
		for _, key := range intake.KeysOf(in.Settings()) {
			all[key].SetOwner(in)
		}
	}
	a.endpoints = all
	return removed
}

// replaceIntakes puts the intakes of a plan in force and returns those that
// are not among them. An intake keeps its counters as long as it has its name.
func (a *Agent) replaceIntakes(settings []plan.Intake) (removed []*intake.Intake) {
	var next []*intake.Intake
	for _, s := range settings {
		i := slices.IndexFunc(a.intakes, func(in *intake.Intake) bool { return in.Name() == s.Name })
		if i < 0 {
			next = append(next, intake.New(s))
			continue
		}
		a.intakes[i].Configure(s)
		next = append(next, a.intakes[i])
	}
	for _, in := range a.intakes {
		if !slices.Contains(next, in) {
			removed = append(removed, in)
		}
	}
	a.leaving = append(a.leaving, removed...)
	a.intakes = next
	return removed
}

// bury adds the counters of intakes that have been read empty to those of all that are gone.
func (a *Agent) bury(removed []*intake.Intake) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, in := range removed {
		c := in.Account()
		a.gone.Read += c.Read
		a.gone.Passed += c.Passed
		a.gone.Unreadable += c.Unreadable
		a.gone.Limited += c.Limited
		a.leaving = slices.DeleteFunc(a.leaving, func(other *intake.Intake) bool { return other == in })
	}
}

// outletsOf returns the outlets of a plan, and which of them are new. One that
// writes to the same place goes on, whatever else has changed, also where it
// was about to leave: only one may write there.
func (a *Agent) outletsOf(p *plan.Plan) (all, fresh []outlet.Outlet, err error) {
	for _, s := range p.Outlets {
		o := a.outletFor(outlet.KeyOf(s))
		if o == nil {
			if o, err = a.openOutlet(s); err != nil {
				return nil, nil, err
			}
			fresh = append(fresh, o)
		}
		all = append(all, o)
	}
	return all, fresh, nil
}

// outletFor returns the outlet with a key, nil where there is none.
func (a *Agent) outletFor(key string) outlet.Outlet {
	a.mu.RLock()
	defer a.mu.RUnlock()
	for _, o := range a.outlets {
		if o.Key() == key {
			return o
		}
	}
	for _, o := range a.departed {
		if o.Key() == key && o.Stay() {
			return o
		}
	}
	return nil
}

// replaceOutlets puts the outlets of a plan in force. Those that are not among them leave.
func (a *Agent) replaceOutlets(settings []plan.Outlet, next []outlet.Outlet) {
	for i, o := range next {
		o.Configure(settings[i])
	}
	for _, o := range a.outlets {
		if !slices.Contains(next, o) {
			a.departed = append(a.departed, o)
			o.Leave()
		}
	}
	a.departed = slices.DeleteFunc(a.departed, func(o outlet.Outlet) bool { return slices.Contains(next, o) })
	a.outlets = next
	for _, o := range next {
		a.pauseOutlet(o)
	}
}

// Reload has the plan read again, soon. Asking twice before that is asking once.
func (a *Agent) Reload() {
	select {
	case a.toReload <- struct{}{}:
	default:
	}
}
