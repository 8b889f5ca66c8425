package agent

import (
	"context"
	"fmt"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// The link to the service: the agent tells how it is, and asks for orders.
const (
	reportTime = 5 * time.Second  // between two reports
	reportRest = time.Second      // at least, also where batches are confirmed one after the other
	traceTime  = 5 * time.Second  // for which a test record is followed; other orders wait as long
	orderWait  = 25 * time.Second // for which the service holds an answer that has no order
	linkRetry  = 5 * time.Second  // after a failure; the outlets tell of it
	mostAnswer = 4 << 20          // bytes of an answer of the service
)

// serviceClient returns a client that reads the token's file for each request,
// so that a new token is taken without a reload.
func serviceClient(s plan.Service) (*client.Client, error) {
	return client.New(client.Options{URLs: strings.Fields(s.URLs), Proxy: s.Proxy, TLS: client.TLS(s.TLS), Most: mostAnswer, Token: func() (string, error) {
		return readToken(s.TokenFile)
	}})
}

// mostSecret bounds the files of tokens, passwords and certificates, in bytes.
const mostSecret = 1 << 20

// readToken returns the token in a file.
func readToken(file string) (string, error) {
	b, err := disk.ReadSmall(file, mostSecret)
	token := strings.TrimSpace(string(b))
	if err == nil && token == "" {
		err = fmt.Errorf("%s is empty", file)
	}
	return token, err
}

// link keeps the client for a service until the plan names another one.
type link struct {
	to plan.Service
	c  *client.Client
}

func (l *link) client(a *Agent) *client.Client {
	a.mu.RLock()
	s := a.plan.Service
	a.mu.RUnlock()
	if s != l.to {
		l.to, l.c = s, nil
		if s.URLs != "" {
			l.c, _ = serviceClient(s) // the outlets tell what is wrong
		}
	}
	return l.c
}

// signalDelivery tells the report that a batch is confirmed.
func (a *Agent) signalDelivery() { signal(a.deliveries) }

// report tells the service how the agent is, from time to time and with each
// batch, until the agent ends.
func (a *Agent) report() {
	var l link
	for a.ending.Err() == nil {
		if c := l.client(a); c != nil {
			a.reportOnce(c)
		}
		pause(a.ending, reportRest)
		select {
		case <-a.ending.Done():
		case <-a.deliveries:
		case <-time.After(reportTime - reportRest):
		}
	}
}

func (a *Agent) reportOnce(c *client.Client) {
	ctx, cancel := context.WithTimeout(a.ending, reportTime)
	defer cancel()
	s := a.status()
	taken, err := c.SendStatus(ctx, s.AgentID, s.report())
	if err != nil || !taken.WantsPlan {
		return
	}
	a.mu.RLock()
	p := client.AgentPlan{Hash: a.plan.Hash(), Text: string(a.plan.Source)}
	a.mu.RUnlock()
	c.SendPlan(ctx, s.AgentID, p)
}

// report returns the status as the service takes it.
func (s *Status) report() client.AgentStatus {
	r := client.AgentStatus{Host: s.Host, PlanHash: s.Plan.Hash, Status: s}
	for _, o := range s.Outlets {
		r.Held += o.Held
	}
	return r
}

// obey does what the service orders, until the agent ends.
func (a *Agent) obey() {
	var l link
	outcomes := map[uint64]client.Outcome{} // of orders that are done, until the service knows
	for a.ending.Err() == nil {
		c := l.client(a)
		if c == nil {
			pause(a.ending, linkRetry)
			continue
		}
		orders, err := c.WaitForOrders(a.ending, a.state.id, orderWait)
		for _, o := range orders {
			outcome, done := outcomes[o.ID]
			if !done {
				outcome = a.do(o)
				outcomes[o.ID] = outcome
			}
			if err = c.OrderDone(a.ending, a.state.id, o.ID, outcome); err != nil {
				break
			}
			delete(outcomes, o.ID)
		}
		if err != nil {
			pause(a.ending, linkRetry)
		}
	}
}

// do does one order.
func (a *Agent) do(o client.Order) client.Outcome {
	a.log.Info("an order has come", "kind", o.Kind, "by", o.By, "order", o.ID)
	switch o.Kind {
	case "test_record":
		text := fmt.Sprintf("test record %d, ordered by %s", o.ID, o.By)
		return a.traceTestRecord(text)
	case "detail_open":
		d, err := a.openDetail(o.Rule, o.To, time.Duration(o.Seconds)*time.Second)
		if err != nil {
			return client.Outcome{Why: err.Error()}
		}
		return client.Outcome{Text: fmt.Sprintf("rule %s takes %s instead of %s until %s", d.Rule, d.To, d.From, d.Until.UTC().Format(time.RFC3339))}
	case "detail_close":
		if closed, err := a.closeDetail(o.Rule); err != nil || !closed {
			return client.Outcome{Why: "the rule has no window open"}
		}
		return client.Outcome{Text: "the window of rule " + o.Rule + " is closed"}
	}
	if outcome, known := a.doFiles(o); known {
		return outcome
	}
	return client.Outcome{Why: "this agent does not know such an order; a newer one may"}
}

// traceTestRecord passes a test record and tells how far it comes.
func (a *Agent) traceTestRecord(text string) client.Outcome {
	done := client.Outcome{Text: text}
	a.trace(text)
	w := Watcher{Mark: text, Start: time.Now(), Tell: func(h client.Hop) { done.Hops = append(done.Hops, h) }}
	done.GoesTo = a.passTestRecord(text)
	w.Watch(a.ending, traceTime, func() (Trace, error) { return a.trace(text), nil })
	return done
}

// byOrder is the intake of records that were ordered. Its name is none that a plan can give.
const byOrder = "by order"

// passTestRecord passes a record of the agent's own through the rules, and
// returns the outlets that it went to.
func (a *Agent) passTestRecord(text string) []string {
	a.mu.Lock() // so that the plan that judges it is the one that is told of
	defer a.mu.Unlock()
	if a.ordered == nil {
		a.ordered = newIntake(plan.Intake{Name: byOrder, Kind: "order"})
	}
	now := record.StampOf(time.Now())
	b := record.Batch{Records: []record.Record{{
		Time: now, Received: now, Priority: record.DefaultPriority, MsgID: []byte("TEST"), Text: []byte(text), Intake: byOrder,
	}}}
	sign(&b.Records[0], a.host())
	var marks route.Marks
	counts := a.table.Mark(&b, &marks)
	a.ordered.count(&b)
	a.give(&b, &marks, counts, a.ordered, false)
	goesTo := []string{}
	for i, o := range a.plan.Outlets {
		if marks.Has(0, i) {
			goesTo = append(goesTo, o.Name)
		}
	}
	return goesTo
}
