package agent

import (
	"bytes"
	"context"
	"net/url"
	"sync"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// Trace is how far a marked record has come on its way through an agent.
type Trace struct {
	TakenIn *time.Time      `json:"taken_in"` // nil where it was not seen yet
	Intake  string          `json:"intake"`
	Rules   []TraceRule     `json:"rules"`   // those that matched, in order
	Dropped string          `json:"dropped"` // the rule that dropped it, "" for none
	Outlets []OutletOfTrace `json:"outlets"`
}

// TraceRule is a rule that a record has met.
type TraceRule struct {
	Name    string   `json:"name"`
	Because string   `json:"because"`
	Changes []string `json:"changes"`
}

// OutletOfTrace is how far a record has come in an outlet.
type OutletOfTrace struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Path    string `json:"path"`
	Spooled bool   `json:"spooled"` // of a store: it is in the spool
	Done    bool   `json:"done"`    // it is written, or confirmed by the store
	Trouble string `json:"trouble"` // why it waits
}

// traceWatch waits for a record whose text holds a mark.
type traceWatch struct {
	mark []byte

	mu    sync.Mutex
	found Trace
	after []int64  // of each outlet: how many records it had got, with this one
	last  []uint64 // of each store: the number of this one, or one behind it
}

// look looks for the mark in records that were given to the outlets. It is
// called between two batches.
func (w *traceWatch) look(a *Agent, b *record.Batch, marks *route.Marks, in *intake) {
	for i := range b.Records {
		if !bytes.Contains(b.Records[i].Text, w.mark) {
			continue
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.found.TakenIn == nil {
			w.note(a, b, marks, i, in)
		}
		return
	}
}

func (w *traceWatch) note(a *Agent, b *record.Batch, marks *route.Marks, at int, in *intake) {
	now := time.Now()
	came := marks.Before(b, at)
	way := a.table.Explain(&came)
	w.found = Trace{TakenIn: &now, Intake: in.settings.Name, Rules: []TraceRule{}, Outlets: []OutletOfTrace{}}
	for _, j := range way.Rules {
		if j.Matched && j.Reached {
			w.found.Rules = append(w.found.Rules, TraceRule{j.Name, j.Because, append([]string{}, j.Changes...)})
		}
	}
	if way.DroppedBy >= 0 {
		w.found.Dropped = way.Rules[way.DroppedBy].Name
	}
	for number, o := range a.outlets {
		if !marks.Has(at, number) {
			continue
		}
		s := o.status(false)
		w.found.Outlets = append(w.found.Outlets, OutletOfTrace{Name: s.Name, Kind: s.Kind, Path: s.Path})
		w.after = append(w.after, s.In+s.HeldAtStart)
		last := uint64(0)
		if sends, ok := o.(*spoolOutlet); ok {
			last = sends.spool.State().Next - 1
		}
		w.last = append(w.last, last)
	}
}

// trace tells how far the record with a mark has come; a mark that is new is
// watched for from now on, instead of the one before.
func (a *Agent) trace(mark string) Trace {
	w := a.tracing.Load()
	if w == nil || string(w.mark) != mark {
		a.tracing.Store(&traceWatch{mark: []byte(mark)})
		return Trace{}
	}
	a.mu.RLock()
	defer a.mu.RUnlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	t := w.found
	t.Outlets = append([]OutletOfTrace{}, t.Outlets...)
	for i := range t.Outlets {
		for _, o := range a.outlets {
			s := o.status(false)
			if s.Name != t.Outlets[i].Name {
				continue
			}
			t.Outlets[i].Done = s.Out+s.Shed+s.Refused >= w.after[i]
			t.Outlets[i].Trouble = s.Trouble
			if sends, ok := o.(*spoolOutlet); ok {
				t.Outlets[i].Spooled = sends.spool.State().Written >= w.last[i]
			}
		}
	}
	return t
}

// AskTrace asks the agent with a state folder how far the record with a mark
// has come. The first time that a mark is asked for, the agent begins to watch
// for it.
func AskTrace(ctx context.Context, stateDir, mark string) (t Trace, err error) {
	err = ask(ctx, stateDir, "POST", "/trace", url.Values{"mark": {mark}}, &t)
	return t, err
}
