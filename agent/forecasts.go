package agent

import (
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
)

// Times between the forecasts of the files.
const (
	forecastTime = 10 * time.Second
	planTime     = 2 * time.Second // between looks for a new plan, which has one at once
)

// makeForecasts makes forecasts of the plan's files a part of the status, until
// the agent ends.
func (a *Agent) makeForecasts() {
	var last *plan.Plan
	var made time.Time
	for a.ending.Err() == nil {
		a.mu.RLock()
		p := a.plan
		a.mu.RUnlock()
		if now := time.Now(); p != last || now.Sub(made) >= forecastTime {
			report := forecast.Of(p.Sources(), now)
			a.mu.Lock()
			a.forecast = report
			a.mu.Unlock()
			last, made = p, now
		}
		guard.Pause(a.ending, planTime)
	}
}
