package agent

import (
	"slices"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/core/fleet"
)

// Counters are kept for as long as a plan may be judged, so that what comes under it is
// compared with what came before.
const (
	vitalsTime = 2 * time.Second
	mostVitals = 300
)

// keepVitals keeps the counters of the last minutes, where plans are served.
func (a *Agent) keepVitals() {
	for a.ending.Err() == nil {
		if a.isServed() {
			v := vitalsAt{time.Now(), a.takeVitals()}
			a.served.mu.Lock()
			a.served.vitals = append(a.served.vitals, v)
			if over := len(a.served.vitals) - mostVitals; over > 0 {
				a.served.vitals = slices.Delete(a.served.vitals, 0, over)
			}
			a.served.mu.Unlock()
		}
		guard.Pause(a.ending, vitalsTime)
	}
}

// vitalsBefore returns the counters as they were so long ago, or the oldest that are known.
func (a *Agent) vitalsBefore(span time.Duration) fleet.Vitals {
	a.served.mu.Lock()
	defer a.served.mu.Unlock()
	var known fleet.Vitals
	since := time.Now().Add(-span)
	for i, v := range a.served.vitals {
		if i > 0 && v.at.After(since) {
			break
		}
		known = v.Vitals
	}
	return known
}

// takeVitals reads the counters by which a plan is judged, between two batches.
func (a *Agent) takeVitals() fleet.Vitals {
	faults := a.guard.Faults()
	a.mu.Lock()
	defer a.mu.Unlock()
	v := fleet.Vitals{Intakes: map[string]fleet.IntakeVitals{}, Outlets: map[string]fleet.OutletVitals{}}
	for _, f := range faults {
		v.Faults += f.Count
	}
	intakes, outlets, b := a.counters()
	v.Closes = b.Closes
	for _, in := range intakes {
		if !in.Leaving {
			v.Intakes[in.Name] = fleet.IntakeVitals{Passed: in.Passed, Spoiled: in.Unreadable + in.Unparsed + in.Limited, Trouble: in.Trouble}
		}
	}
	for _, o := range outlets {
		if !o.Leaving {
			v.Outlets[o.Name] = fleet.OutletVitals{In: o.In, Refused: o.Refused, Trouble: o.Trouble}
		}
	}
	return v
}
