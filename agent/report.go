package agent

import (
	"context"
	"encoding/json"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// reportTime is how often the service is told how the agent is.
const reportTime = 5 * time.Second

// report tells the service how the agent is, until the agent ends. A service
// that cannot be reached is told of by the outlets; here it is passed over.
func (a *Agent) report() {
	ctx := a.ending
	var to plan.Service
	var c *client.Client
	for ctx.Err() == nil {
		s := a.status()
		a.mu.RLock()
		service := a.plan.Service
		a.mu.RUnlock()
		if service != to {
			to, c = service, nil
			if to.URL != "" {
				c, _ = storeClient(to)
			}
		}
		if c != nil {
			sending, cancel := context.WithTimeout(ctx, reportTime)
			c.SendStatus(sending, s.AgentID, s.report())
			cancel()
		}
		pause(ctx, reportTime)
	}
}

// report returns the status as the service takes it.
func (s *Status) report() client.AgentStatus {
	report := client.AgentStatus{Host: s.Host, PlanHash: s.Plan.Hash}
	for _, o := range s.Outlets {
		report.Held += o.Held
	}
	report.Status, _ = json.Marshal(s)
	return report
}
