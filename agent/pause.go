package agent

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"oakbarrel/agent/outlet"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// pausesFile is the name of what is paused, in a state folder.
const pausesFile = "pauses.json"

// longestPause bounds a pause, so that none is forgotten.
const longestPause = 30 * 24 * time.Hour

// Pause switches an outlet or a rule off for a while. An outlet that is paused holds what
// comes, or sheds it where drop says so; a rule is as if the plan did not have it.
func (a *Agent) Pause(what client.Pause, span time.Duration) (client.Pause, error) {
	if span < time.Second || span > longestPause {
		return what, errors.New("a pause lasts from 1s to 30 days")
	}
	now := time.Now().Truncate(time.Millisecond)
	what.Since, what.Until = now, now.Add(span)
	a.mu.Lock()
	defer a.mu.Unlock()
	_, hasOutlet := a.plan.Outlet(what.Outlet)
	switch {
	case what.Outlet != "" && !hasOutlet:
		return what, fmt.Errorf("the plan has no outlet %q", what.Outlet)
	case what.Rule != "" && !slices.Contains(a.plan.Table.Names(), what.Rule):
		return what, fmt.Errorf("the plan has no rule %q", what.Rule)
	case (what.Outlet == "") == (what.Rule == ""):
		return what, errors.New("name an outlet or a rule")
	}
	pauses := append(slices.DeleteFunc(slices.Clone(a.pauses), what.IsOf), what)
	if err := a.state.Save(pausesFile, pauses); err != nil {
		return what, fmt.Errorf("the pause cannot be written down, and so would not end after a restart: %w", err)
	}
	a.setPauses(pauses)
	a.log.Warn("it is paused", "outlet", what.Outlet, "rule", what.Rule, "drops", what.Drop, "until", what.Until)
	time.AfterFunc(span, a.endPauses)
	return what, nil
}

// Resume ends a pause before its time, and tells whether there was one.
func (a *Agent) Resume(what client.Pause) (resumed bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.resume(what.IsOf)
}

func (a *Agent) resume(which func(client.Pause) bool) (resumed bool, err error) {
	left := slices.DeleteFunc(slices.Clone(a.pauses), which)
	if len(left) == len(a.pauses) {
		return false, nil
	}
	for _, p := range a.pauses {
		if which(p) {
			a.log.Info("it goes on again", "outlet", p.Outlet, "rule", p.Rule)
		}
	}
	a.setPauses(left)
	return true, a.state.Save(pausesFile, left)
}

// endPauses ends those whose time is over.
func (a *Agent) endPauses() {
	a.atItsTime(func(now time.Time) {
		if _, err := a.resume(func(p client.Pause) bool { return !p.Until.After(now) }); err != nil {
			a.log.Error("that a pause is over cannot be written down", "why", err)
		}
	})
}

// setPauses puts pauses in force. It is called with the lock.
func (a *Agent) setPauses(pauses []client.Pause) {
	a.pauses = pauses
	a.keepDetails(a.plan, a.details)
	for _, o := range a.outlets {
		a.pauseOutlet(o)
	}
}

// pauseOutlet tells an outlet until when it is paused.
func (a *Agent) pauseOutlet(o outlet.Outlet) {
	until := time.Time{}
	for _, p := range a.pauses {
		if p.Outlet == o.Settings().Name && !p.Drop {
			until = p.Until
		}
	}
	o.Pause(until)
}

// keepPauses goes on with the pauses that a plan has outlets and rules for.
func (a *Agent) keepPauses(p *plan.Plan) {
	now := time.Now()
	a.pauses = slices.DeleteFunc(a.pauses, func(pause client.Pause) bool {
		_, known := p.Outlet(pause.Outlet)
		known = known || slices.Contains(p.Table.Names(), pause.Rule)
		if !known {
			a.log.Warn("a pause is over, because the plan has changed", "outlet", pause.Outlet, "rule", pause.Rule)
		}
		return !known || !pause.Until.After(now)
	})
}

// tableOf returns the table of a plan without the rules that are paused.
func (a *Agent) tableOf(p *plan.Plan) *route.Table {
	t := p.Table
	for _, pause := range a.pauses {
		if pause.Rule != "" {
			t = t.Without(pause.Rule)
		}
	}
	return t
}

// dropPaused takes the records of a batch away from an outlet that drops what comes, and
// counts them as shed.
func (a *Agent) dropPaused(o outlet.Outlet, b *record.Batch, routing *route.Routing, number int) {
	name := o.Settings().Name // a large copy: the stacks of many connections stay small without it
	if !slices.ContainsFunc(a.pauses, func(p client.Pause) bool { return p.Outlet == name && p.Drop }) {
		return
	}
	if n := routing.Take(len(b.Records), number); n > 0 {
		o.Shed(int64(n))
	}
}

// readPauses returns what was paused when the agent ended.
func readPauses(s *state.Folder) (pauses []client.Pause) {
	if s.Load(pausesFile, &pauses) != nil {
		return nil
	}
	return pauses
}
