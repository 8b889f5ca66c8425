package agent

import (
	"bytes"
	"sync"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// traceWatch waits for a record whose text holds a mark.
type traceWatch struct {
	mark []byte

	mu    sync.Mutex
	found client.Trace
	after []int64  // of each outlet: how many records it had got, with this one
	last  []uint64 // of each store: the number of this one, or one behind it
}

// watch looks for the mark in records that were given to the outlets. It is
// called between two batches.
func (w *traceWatch) watch(a *Agent, b *record.Batch, routing *route.Routing, in *intake.Intake) {
	for i := range b.Records {
		if !bytes.Contains(b.Records[i].Text, w.mark) {
			continue
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.found.TakenIn == nil {
			w.find(a, b, routing, i, in)
		}
		return
	}
}

func (w *traceWatch) find(a *Agent, b *record.Batch, routing *route.Routing, at int, in *intake.Intake) {
	now := time.Now()
	came := routing.Before(b, at)
	way := a.table.Explain(&came)
	w.found = client.Trace{TakenIn: &now, Intake: in.Name(), Rules: []client.TraceRule{}, Outlets: []client.OutletOfTrace{}}
	for _, j := range way.Rules {
		if j.Matched && j.Reached {
			w.found.Rules = append(w.found.Rules, client.TraceRule{Name: j.Name, Because: j.Because, Changes: append([]string{}, j.Changes...)})
		}
	}
	if way.DroppedBy >= 0 {
		w.found.Dropped = way.Rules[way.DroppedBy].Name
	}
	for number, o := range a.outlets {
		if !routing.Has(at, number) {
			continue
		}
		s := o.Status()
		w.found.Outlets = append(w.found.Outlets, client.OutletOfTrace{Name: s.Name, Kind: s.Kind, Path: s.Path})
		w.after = append(w.after, s.In+s.HeldAtStart)
		last := uint64(0)
		if sends := o.Spools(); sends != nil {
			last = sends.Last()
		}
		w.last = append(w.last, last)
	}
}

// Trace tells how far the record with a mark has come; a mark that is new is
// watched for from now on, instead of the one before.
func (a *Agent) Trace(mark string) client.Trace {
	w := a.tracing.Load()
	if w == nil || string(w.mark) != mark {
		a.tracing.Store(&traceWatch{mark: []byte(mark)})
		return client.Trace{}
	}
	a.mu.RLock()
	defer a.mu.RUnlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	t := w.found
	t.Outlets = append([]client.OutletOfTrace{}, t.Outlets...)
	for i := range t.Outlets {
		for _, o := range a.outlets {
			s := o.Status()
			if s.Name != t.Outlets[i].Name {
				continue
			}
			t.Outlets[i].Done = s.Out+s.Shed+s.Refused >= w.after[i]
			t.Outlets[i].Trouble = s.Trouble
			if sends := o.Spools(); sends != nil {
				t.Outlets[i].Spooled = sends.Written() >= w.last[i]
			}
		}
	}
	return t
}
