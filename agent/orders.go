package agent

import (
	"fmt"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/watch"
	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// traceTime is how long a test record is followed; other orders wait as long.
const traceTime = 5 * time.Second

// Do does one order of the service.
func (a *Agent) Do(o client.Order) client.Outcome {
	a.log.Info("an order has come", "kind", o.Kind, "by", o.By, "order", o.ID)
	switch o.Kind {
	case client.TestRecord:
		text := fmt.Sprintf("test record %d, ordered by %s", o.ID, o.By)
		return a.traceTestRecord(text)
	case client.DetailOpen:
		d, err := a.OpenDetail(o.Rule, o.To, time.Duration(o.Seconds)*time.Second)
		if err != nil {
			return client.Outcome{Why: err.Error()}
		}
		return client.Outcome{Text: fmt.Sprintf("rule %s takes %s instead of %s until %s", d.Rule, d.To, d.From, d.Until.UTC().Format(time.RFC3339))}
	case client.RollFiles:
		rolled, err := a.Roll(o.Outlet)
		if err != nil {
			return client.Outcome{Why: err.Error()}
		}
		return client.Outcome{Rolled: rolled}
	case client.TakePlan:
		return a.takePlan(o)
	case client.JudgePlan:
		return a.judgePlan(o)
	case client.DetailClose:
		if closed, err := a.CloseDetail(o.Rule); err != nil || !closed {
			return client.Outcome{Why: "the rule has no window open"}
		}
		return client.Outcome{Text: "the window of rule " + o.Rule + " is closed"}
	}
	if tell := a.fileOrders()[o.Kind]; tell != nil {
		return a.tellOfSet(o.Path, tell)
	}
	return client.Outcome{Why: "this agent does not know such an order; a newer one may"}
}

// traceTestRecord passes a test record and tells how far it comes.
func (a *Agent) traceTestRecord(text string) client.Outcome {
	done := client.Outcome{Text: text}
	a.Trace(text)
	w := watch.Watcher{Mark: text, Start: time.Now(), Tell: func(h client.Hop) { done.Hops = append(done.Hops, h) }}
	done.GoesTo = a.passTestRecord(text)
	w.Watch(a.ending, traceTime, func() (client.Trace, error) { return a.Trace(text), nil })
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
		a.ordered = intake.New(plan.Intake{Name: byOrder, Kind: "order"})
	}
	now := record.StampOf(time.Now())
	b := record.Batch{Records: []record.Record{{
		Time: now, Received: now, Priority: record.DefaultPriority, MsgID: []byte("TEST"), Text: []byte(text), Intake: byOrder,
	}}}
	intake.Sign(&b.Records[0], a.host())
	var routing route.Routing
	counts := a.table.Route(&b, &routing)
	a.ordered.Count(&b)
	a.give(&b, &routing, counts, a.ordered, false)
	goesTo := []string{}
	for i, o := range a.plan.Outlets {
		if routing.Has(0, i) {
			goesTo = append(goesTo, o.Name)
		}
	}
	return goesTo
}
