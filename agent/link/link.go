// Package link is an agent's link to the service: it tells how the agent is, and
// does what the service orders. The agent always calls; the service never does.
//
// [Report] and [Obey] each have a goroutine of their own, until the agent ends.
package link

import (
	"context"
	"encoding/json"
	"time"

	"oakbarrel/agent/credential"
	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/plan"
)

const (
	reportTime = 5 * time.Second  // between two reports
	reportRest = time.Second      // at least, also where batches are confirmed one after the other
	orderWait  = 25 * time.Second // for which the service holds an answer that has no order
	retryTime  = 5 * time.Second  // after a failure; the outlets tell of it
)

// Agent is the agent as its link sees it. Its methods may be called by several
// goroutines at a time.
type Agent interface {
	AgentID() string
	// TokenFor returns the token that the store gave this agent in the place of one.
	TokenFor(token string) string
	// Service returns the service of the plan in force, the zero value for none.
	Service() plan.Service
	Status() client.Status
	// PlanInForce returns the plan as the service keeps it.
	PlanInForce() client.AgentPlan
	// Do does one order.
	Do(client.Order) client.Outcome
}

// line keeps the client for a service until the plan names another one.
type line struct {
	to plan.Service
	c  *client.Client
}

func (l *line) client(a Agent) *client.Client {
	if s := a.Service(); s != l.to {
		l.to, l.c = s, nil
		if s.URLs != "" {
			l.c, _ = credential.Client(s, a.TokenFor) // the outlets tell what is wrong
		}
	}
	return l.c
}

// Report tells the service how the agent is, from time to time and with each
// batch that was delivered, until ctx ends.
func Report(ctx context.Context, a Agent, delivered <-chan struct{}) {
	var l line
	for ctx.Err() == nil {
		if c := l.client(a); c != nil {
			reportOnce(ctx, a, c)
		}
		guard.Pause(ctx, reportRest)
		select {
		case <-ctx.Done():
		case <-delivered:
		case <-time.After(reportTime - reportRest):
		}
	}
}

func reportOnce(ctx context.Context, a Agent, c *client.Client) {
	ctx, cancel := context.WithTimeout(ctx, reportTime)
	defer cancel()
	taken, err := c.SendStatus(ctx, a.AgentID(), reportOf(a.Status()))
	if err != nil || !taken.WantsPlan {
		return
	}
	c.SendPlan(ctx, a.AgentID(), a.PlanInForce())
}

// reportOf returns a status as the service takes it.
func reportOf(s client.Status) client.AgentStatus {
	r := client.AgentStatus{Host: s.Host, PlanHash: s.Plan.Hash, Status: fit(s)}
	for _, o := range s.Outlets {
		r.Held += o.Held
	}
	return r
}

// fit returns a status that the service takes: with the files and containers that need
// attention most, where all would be too much.
func fit(s client.Status) client.Status {
	for {
		b, err := json.Marshal(s)
		rest := len(s.Followed) + len(s.Containers) + len(s.Tended) + len(s.Damaged)
		if err != nil || len(b) <= client.MostStatus || rest == 0 {
			return s
		}
		s.Followed, s.Containers = s.Followed[:len(s.Followed)/2], s.Containers[:len(s.Containers)/2]
		s.Tended, s.Damaged = s.Tended[:len(s.Tended)/2], s.Damaged[:len(s.Damaged)/2]
	}
}

// Obey does what the service orders, until ctx ends.
func Obey(ctx context.Context, a Agent) {
	var l line
	outcomes := map[uint64]client.Outcome{} // of orders that are done, until the service knows
	for ctx.Err() == nil {
		c := l.client(a)
		if c == nil {
			guard.Pause(ctx, retryTime)
			continue
		}
		orders, err := c.WaitForOrders(ctx, a.AgentID(), orderWait)
		for _, o := range orders {
			outcome, done := outcomes[o.ID]
			if !done {
				outcome = a.Do(o)
				outcomes[o.ID] = outcome
			}
			if err = c.OrderDone(ctx, a.AgentID(), o.ID, outcome); err != nil {
				break
			}
			delete(outcomes, o.ID)
		}
		if err != nil {
			guard.Pause(ctx, retryTime)
		}
	}
}
