package agent

import (
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/intake"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// byFold is the intake of records that tell of repeats. Its name is none that a plan can give.
const byFold = "by fold"

// tellRepeats tells of repeats once their time is over, until the agent ends.
func (a *Agent) tellRepeats() {
	for a.ending.Err() == nil {
		guard.Pause(a.ending, time.Second)
		a.giveDueRepeats()
	}
}

func (a *Agent) giveDueRepeats() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.giveRepeats(false)
}

// giveRepeats gives the records that tell of repeats to the outlets. It is
// called between two batches.
func (a *Agent) giveRepeats(all bool) {
	if a.table == nil {
		return // no plan is in force yet
	}
	var b record.Batch
	var routing route.Routing
	n := a.table.Folded(record.StampOf(time.Now()), all, &b, &routing)
	if n == 0 {
		return
	}
	if a.repeats == nil {
		a.repeats = intake.New(plan.Intake{Name: byFold, Kind: "fold"})
	}
	a.repeats.Count(&b)
	a.give(&b, &routing, route.Counts{In: n, Routed: n}, a.repeats, false)
}
