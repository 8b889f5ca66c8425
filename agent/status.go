package agent

import (
	"os"
	"runtime"
	"slices"

	"oakbarrel/agent/intake"
	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/plan"
	"oakbarrel/core/route"
)

// system is the one that this program was made for.
const system = runtime.GOOS

// Status reads all counters between two batches.
func (a *Agent) Status() client.Status {
	onDisk := fileHash(a.options.PlanFile) // before the lock, which holds up the intakes
	memory, tended := a.memory.Status(), a.tended.Files()
	followed, boxes := worst(a.Followed()), a.Containers()
	a.mu.Lock()
	defer a.mu.Unlock()
	s := client.Status{
		AgentID: a.state.AgentID(), Forks: a.state.Forks(), Host: a.host(), System: system, Version: client.ThisVersion(), PID: os.Getpid(), Since: a.since,
		Plan:   client.PlanStatus{File: a.plan.File, Hash: a.plan.Hash(), ReadAt: a.readAt, ChangedOnDisk: onDisk != a.fileHash, Refused: a.refused, Served: a.served.status(a.plan), Labels: labelsOf(a.plan), Values: a.plan.Values},
		Tended: tended, Followed: followed, Containers: boxes[:min(len(boxes), mostFollowed)], Forecast: a.forecast,
		Details: append([]client.Detail{}, a.details...), Pauses: append([]client.Pause{}, a.pauses...), Told: a.told.List(), Memory: memory, Metrics: a.meter.status(), Damaged: a.state.Damages(), Faults: a.guard.Faults(),
		Rules: a.rulesAccount(), Matched: a.matched(),
	}
	s.Intakes, s.Outlets, s.Balance = a.counters()
	return s
}

// counters reads those of all intakes and outlets, and whether they add up. It is called
// with the lock.
func (a *Agent) counters() (intakes []client.IntakeStatus, outlets []client.OutletStatus, b balance.Result) {
	intakes, outlets = []client.IntakeStatus{}, []client.OutletStatus{}
	account := balance.Account{Rules: a.rulesAccount(), Intakes: []balance.Intake{a.gone}}
	for _, in := range slices.Concat(a.intakes, a.leaving, []*intake.Intake{a.ordered, a.repeats}) {
		if in == nil {
			continue
		}
		told := a.intakeStatus(in)
		intakes = append(intakes, told)
		account.Intakes = append(account.Intakes, told.Intake)
	}
	for _, o := range slices.Concat(a.outlets, a.departed) {
		told := o.Status()
		told.Leaving = slices.Contains(a.departed, o)
		outlets = append(outlets, told)
		account.Outlets = append(account.Outlets, told.Outlet)
	}
	return intakes, outlets, account.Check()
}

// mostMatched bounds the rules that a status tells of.
const mostMatched = 500

// matched tells how many records each rule has acted on. It is called with the lock.
func (a *Agent) matched() []route.Matched {
	all := a.table.Matched()
	if rest := len(all) - mostMatched; rest > 0 { // otherwise stays
		all = slices.Delete(all, mostMatched-1, len(all)-1)
	}
	return all
}

func (a *Agent) rulesAccount() balance.Rules {
	return balance.Rules{In: a.in.Load(), Routed: a.routed.Load(), Dropped: a.dropped.Load(), Limited: a.limited.Load(), Folded: a.folded.Load()}
}

// intakeStatus tells how an intake is. It is called with the lock.
func (a *Agent) intakeStatus(in *intake.Intake) client.IntakeStatus {
	s := in.Status()
	s.Leaving = slices.Contains(a.leaving, in)
	for _, e := range a.endpointsOf(in) {
		s.Addresses = append(s.Addresses, e.Bound())
		e.Tell(&s)
	}
	return s
}

// fileHash returns the hash of the plan in a file, "" where it cannot be read.
func fileHash(path string) string {
	source, _, err := plan.ReadFile(path)
	if err != nil {
		return ""
	}
	return plan.Hash(source)
}
