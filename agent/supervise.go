package agent

import (
	"errors"
	"slices"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
)

// runEndpoint runs an endpoint of an intake. One that failed is opened anew.
func (a *Agent) runEndpoint(key intake.Key, e intake.Endpoint) {
	var last time.Duration
	for {
		begun := time.Now()
		part := guard.Intake(e.Owner().Name())
		if !a.guard.Run(part, e.Run) {
			return
		}
		a.guard.Run(part, func() { e.Drain(time.Now()) })
		a.loseFlying(part, e)
		for {
			if !a.guard.Rest(part, &last, time.Since(begun)) {
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
			a.log.Error("an intake that has failed cannot be opened again; it is tried again", "intake", e.Owner().Name(), "address", key.String(), "why", err)
		}
	}
}

// loseFlying counts what an endpoint had read and not passed on: it is read, and
// was not readable.
func (a *Agent) loseFlying(part string, e intake.Endpoint) {
	n := e.Landed()
	e.Owner().Lose(n)
	a.guard.Lose(part, n)
}

// reopen opens an endpoint in the place of one that has failed; nil where that is
// not in force any more.
func (a *Agent) reopen(key intake.Key, failed intake.Endpoint) (intake.Endpoint, error) {
	a.changing.Lock()
	defer a.changing.Unlock()
	if a.endpoints[key] != failed || a.stopping {
		return nil, nil
	}
	in := failed.Owner()
	settings := in.Settings()
	next, err := a.openEndpoint(key, &settings)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	next.SetOwner(in)
	a.endpoints[key] = next
	return next, nil
}

// rewind has all followed sources be read again from what stands on the disk,
// once change is made: each outlet passes over what it has. The caller holds
// changing.
func (a *Agent) rewind(change func()) {
	stopped := map[intake.Key]intake.Rereader{}
	for key, e := range a.endpoints {
		if f := e.Rereads(); f != nil && !f.IsOver() {
			f.Abandon()
			stopped[key] = f
		}
	}
	change()
	for key, f := range stopped {
		in := f.Owner()
		settings := in.Settings()
		next, err := a.openEndpoint(key, &settings)
		if err != nil { // as if it had failed: it is tried again
			a.log.Error("an intake cannot be opened again; it is tried again", "intake", settings.Name, "why", err)
			a.running.Go(func() { a.runEndpoint(key, f) })
			continue
		}
		a.mu.Lock()
		next.SetOwner(in)
		a.endpoints[key] = next
		a.mu.Unlock()
		a.running.Go(func() { a.runEndpoint(key, next) })
	}
}

// runOutlet runs an outlet until it has left or is stopped. One that failed is
// begun again with what stands on the disk.
func (a *Agent) runOutlet(o outlet.Outlet) {
	var last time.Duration
	for {
		begun := time.Now()
		part := guard.Outlet(o.Settings().Name)
		if !a.guard.Run(part, o.Run) && !o.IsDown() {
			break
		}
		o.Fail()
		for {
			if !a.guard.Rest(part, &last, time.Since(begun)) {
				a.guard.Lose(part, lostOf(o))
				return
			}
			next, err := a.replace(o, part)
			if err == nil {
				o = next
				break
			}
			begun = time.Now()
			a.log.Error("an outlet that has failed cannot be begun again; it is tried again", "outlet", o.Settings().Name, "why", err)
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.departed = slices.DeleteFunc(a.departed, func(other outlet.Outlet) bool { return other == o })
}

// lostOf returns how many records an outlet held in memory that are not read again.
func lostOf(o outlet.Outlet) int64 {
	held, again := o.InMemory()
	return held - again
}

// replace puts another outlet in the place of one that has failed. What that
// held in memory and cannot be read again is shed.
func (a *Agent) replace(failed outlet.Outlet, part string) (outlet.Outlet, error) {
	a.changing.Lock()
	defer a.changing.Unlock()
	if a.stopping {
		return nil, errStopping
	}
	next, err := a.openOutlet(failed.Settings())
	if err != nil {
		return nil, err
	}
	a.rewind(func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		account := failed.Account()
		held, again := failed.InMemory()
		account.In -= again
		account.Shed += held - again
		next.Carry(account)
		a.guard.Lose(part, held-again)
		for _, list := range [][]outlet.Outlet{a.outlets, a.departed} {
			if i := slices.Index(list, failed); i >= 0 {
				list[i] = next
			}
		}
		a.pauseOutlet(next)
		if failed.IsLeaving() {
			next.Leave()
		}
	})
	failed.Replaced()
	return next, nil
}

var errStopping = errors.New("the agent stops")
