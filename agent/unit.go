package agent

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// absentTime is between two tries to open an intake that could not be opened.
const absentTime = 5 * time.Second

// openAbsent tries to open what could not be opened when the agent began.
func (a *Agent) openAbsent() {
	for tick := time.NewTicker(absentTime); ; {
		select {
		case <-a.ending.Done():
			return
		case <-tick.C:
		}
		a.retryMetrics()
		a.changing.Lock()
		all := maps.Clone(a.endpoints)
		a.changing.Unlock()
		for key, e := range all {
			absent, is := e.(*intake.Absent)
			if !is {
				continue
			}
			next, err := a.reopen(key, e)
			if err != nil {
				absent.Explain((&IntakeError{e.Owner().Name(), key.String(), err}).Error())
			}
			if next != nil {
				a.log.Info("an intake is open by now", "intake", next.Owner().Name(), "address", next.Bound())
				absent.Close()
				a.running.Go(func() { a.runEndpoint(key, next) })
			}
		}
	}
}

// statusTime is between two looks at how the agent is, for the service manager.
const statusTime = 5 * time.Second

// tellUnit tells the service manager how the agent is, and that it lives as long as its
// outlets write: else it is started again.
func (a *Agent) tellUnit() {
	u := a.options.Unit
	if !u.Manages() {
		return
	}
	every := statusTime
	if w := u.Watchdog(); w > 0 {
		every = min(every, w/4)
	}
	written := progresses{}
	for tick := time.NewTicker(every); ; {
		s := a.Status() // which takes what batches are passed under
		u.Status(lineOf(&s))
		if stuck := written.stuck(&s, time.Now(), u.Watchdog()); stuck == "" {
			u.Alive()
		} else {
			a.log.Error("an outlet has what is to be written, and writes nothing", "outlet", stuck)
		}
		select {
		case <-a.ending.Done():
			return
		case <-tick.C:
		}
	}
}

// lineOf tells in one line how the agent is.
func lineOf(s *client.Status) string {
	var held int64
	for _, o := range s.Outlets {
		held += o.Held
	}
	line := fmt.Sprintf("%d records in, %d held", s.Rules.In, held)
	troubles := s.Summary(nil, time.Now()).Troubles
	for _, t := range troubles[:min(len(troubles), 3)] {
		line += "; " + t
	}
	if more := len(troubles) - 3; more > 0 {
		line += fmt.Sprintf("; and %d more", more)
	}
	return line
}

// progress is how far an outlet was when it wrote last.
type progress struct {
	out   int64
	since time.Time
}

// progresses knows those of outlets, by name.
type progresses map[string]progress

// stuck names a file outlet that has held records for longer than limit, has written none
// meanwhile, and neither is paused nor says why; "" where there is none, or limit is 0.
func (p progresses) stuck(s *client.Status, now time.Time, limit time.Duration) (stuck string) {
	for _, o := range s.Outlets {
		paused := slices.ContainsFunc(s.Pauses, func(p client.Pause) bool { return p.Outlet == o.Name })
		was, known := p[o.Name]
		if !known || was.out != o.Out || o.Held == 0 || o.Trouble != "" || paused || o.Kind != plan.FileOutlet {
			p[o.Name] = progress{o.Out, now}
		} else if limit > 0 && now.Sub(was.since) > limit {
			stuck = o.Name
		}
	}
	return stuck
}
