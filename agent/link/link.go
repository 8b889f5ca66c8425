// Package link is an agent's link to the service: it tells how the agent is, and
// does what the service orders. The agent always calls; the service never does.
//
// [Link.Report] and [Link.Obey] each have a goroutine of their own, until the agent ends.
package link

import (
	"context"
	"encoding/json"
	"errors"
	"hash/maphash"
	"math/rand/v2"
	"sync/atomic"
	"time"

	"oakbarrel/agent/credential"
	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
)

// An agent of which nothing is new asks for its orders once a minute, and says no more
// than that: thousands of them are no load.
const (
	reportTime = 5 * time.Second  // between two reports, where there is something new
	reportRest = time.Second      // at least, also where batches are confirmed one after the other
	silentTime = 10 * time.Minute // between two reports where there is nothing new
	orderWait  = time.Minute      // for which the service holds an answer that has no order
	retryTime  = 5 * time.Second  // after a failure, more or less; the outlets tell of it
)

// Link links an agent to the service. Agent and Delivered are set before it is used.
type Link struct {
	Agent     Agent
	Delivered <-chan struct{} // delivers a value with each batch that is confirmed

	again atomic.Bool // the service does not know how the agent is
}

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

// Report tells the service how the agent is, where something is new, until ctx ends.
func (k *Link) Report(ctx context.Context) {
	var l line
	var said uint64
	var at time.Time
	seed := maphash.MakeSeed()
	for ctx.Err() == nil {
		if c := l.client(k.Agent); c != nil {
			status := k.Agent.Status()
			now := newsOf(seed, status)
			if k.again.Swap(false) || now != said || time.Since(at) > silentTime {
				err := k.reportOnce(ctx, c, status)
				if said, at = now, time.Now(); err != nil {
					k.again.Store(true)
					guard.Pause(ctx, after(err))
				}
			}
		}
		guard.Pause(ctx, reportRest)
		select {
		case <-ctx.Done():
		case <-k.Delivered:
		case <-time.After(reportTime - reportRest):
		}
	}
}

// newsOf returns another number where a status has something new: what changes by itself
// is no news.
func newsOf(seed maphash.Seed, s client.Status) uint64 {
	s.Memory.Heap, s.Forecast = 0, forecast.Report{}
	var h maphash.Hash
	h.SetSeed(seed)
	json.NewEncoder(&h).Encode(s) // which does not fail
	return h.Sum64()
}

// after returns how long to wait after a failure: as long as the service asks for, and
// otherwise for a while that differs, so that not all agents come again at a time.
func after(err error) time.Duration {
	var later *client.RetryLater
	wait := retryTime / 2
	if errors.As(err, &later) {
		wait = max(wait, min(later.After, time.Minute))
	}
	return wait + rand.N(retryTime)
}

func (k *Link) reportOnce(ctx context.Context, c *client.Client, s client.Status) error {
	ctx, cancel := context.WithTimeout(ctx, reportTime)
	defer cancel()
	taken, err := c.SendStatus(ctx, k.Agent.AgentID(), reportOf(s))
	if err != nil || !taken.WantsPlan {
		return err
	}
	return c.SendPlan(ctx, k.Agent.AgentID(), k.Agent.PlanInForce())
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
func (k *Link) Obey(ctx context.Context) {
	var l line
	outcomes := map[uint64]client.Outcome{} // of orders that are done, until the service knows
	for ctx.Err() == nil {
		c := l.client(k.Agent)
		if c == nil {
			guard.Pause(ctx, retryTime)
			continue
		}
		orders, err := c.WaitForOrders(ctx, k.Agent.AgentID(), orderWait)
		for _, o := range orders {
			if o.Kind == client.SayAgain {
				k.again.Store(true)
				continue
			}
			outcome, done := outcomes[o.ID]
			if !done {
				outcome = k.Agent.Do(o)
				outcomes[o.ID] = outcome
			}
			if err = c.OrderDone(ctx, k.Agent.AgentID(), o.ID, outcome); err != nil {
				break
			}
			delete(outcomes, o.ID)
		}
		if err != nil {
			guard.Pause(ctx, after(err))
		}
	}
}
