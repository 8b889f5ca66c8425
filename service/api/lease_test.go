package api_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"oakbarrel/client"
	"oakbarrel/core/spool"
)

// runID names a run of a test.
func runID(n int) string { return fmt.Sprintf("%032x", n) }

// leaser is an agent as far as its leases go.
type leaser struct {
	f       *fixture
	machine string
	runs    []spool.Run
	link    string
}

func (l *leaser) ask(asks client.Lease) client.Leased {
	l.f.t.Helper()
	asks.Machine, asks.Runs = l.machine, l.runs
	answer, err := l.f.writer(l.f.agent(1)).Lease(context.Background(), l.f.agent(1), "centre", l.f.cask, "", asks)
	if err != nil {
		l.f.t.Fatal(err)
	}
	l.link = answer.Link
	return answer
}

// begin begins a run whose first number is given, and gets the lease, or is told of a fork.
func (l *leaser) begin(run int, first, confirmed uint64) *client.Fork {
	l.f.t.Helper()
	l.runs = append(l.runs[:len(l.runs):len(l.runs)], spool.Run{ID: runID(run), First: first})
	return l.ask(client.Lease{Run: runID(run), First: first, Confirmed: confirmed}).Fork
}

func (l *leaser) send(first uint64, n int) error {
	head, payload := pack(first, some(n))
	head.Run, head.Previous = l.runs[len(l.runs)-1].ID, l.link
	answer, err := l.f.writer(l.f.agent(1)).SendBatch(context.Background(), l.f.agent(1), "centre", l.f.cask, head, payload)
	if err == nil {
		l.link = answer.Link
	}
	return err
}

func noLease(err error) bool {
	var p *client.Problem
	return errors.As(err, &p) && p.Status == 409 && p.Lease
}

// The newest lease alone writes, and each batch names the one before.
func TestTheNewestLeaseAloneWrites(t *testing.T) {
	f := newFixture(t)
	first := &leaser{f: f, machine: "a"}
	if fork := first.begin(1, 1, 0); fork != nil {
		t.Fatalf("%+v", fork)
	}
	if err := first.send(1, 10); err != nil {
		t.Fatal(err)
	}
	next := &leaser{f: f, machine: "a", runs: first.runs}
	if fork := next.begin(2, 11, 10); fork != nil {
		t.Fatalf("%+v", fork)
	}
	if err := first.send(11, 10); !noLease(err) {
		t.Errorf("a run whose lease is over: %v", err)
	}
	head, payload := pack(11, some(5))
	if _, err := f.writer(f.agent(1)).SendBatch(context.Background(), f.agent(1), "centre", f.cask, head, payload); !noLease(err) {
		t.Errorf("one that names no run: %v", err)
	}
	right := next.link
	next.link = "forged"
	if err := next.send(11, 10); !noLease(err) {
		t.Errorf("one that does not know the batch before: %v", err)
	}
	next.link = right
	if err := next.send(11, 10); err != nil {
		t.Error(err)
	}
	feeds, err := f.read.Cask(context.Background(), f.cask)
	if err != nil || len(feeds.Feeds) != 1 || feeds.Feeds[0].Records != 20 || feeds.Feeds[0].Confirmed != 20 {
		t.Errorf("%+v, %v", feeds, err)
	}
}

// Where the runs of a folder and of the store part, both know up to which number they
// are alike, and nothing is taken until the agent has settled it.
func TestForksAreTold(t *testing.T) {
	for name, c := range map[string]struct {
		agent       func(l *leaser) *client.Fork // behind a run 1 with numbers 1 to 100, and a run 2 from 101 to 150
		last        uint64
		sameMachine bool
	}{
		"set back to before run 2":  {func(l *leaser) *client.Fork { l.runs = l.runs[:1]; return l.begin(3, 61, 60) }, 60, true},
		"set back within run 2":     {func(l *leaser) *client.Fork { return l.begin(3, 121, 120) }, 120, true},
		"copied to another machine": {func(l *leaser) *client.Fork { l.runs, l.machine = l.runs[:1], "b"; return l.begin(3, 61, 60) }, 60, false},
		"a spool that was lost":     {func(l *leaser) *client.Fork { l.runs = nil; return l.begin(3, 1, 0) }, 0, true},
		"the folder as it was":      {func(l *leaser) *client.Fork { return l.begin(3, 151, 150) }, 0, false},
		"more than the store has":   {func(l *leaser) *client.Fork { return l.begin(3, 201, 150) }, 0, false},
		"a run without a lease between": {func(l *leaser) *client.Fork {
			l.runs = append(l.runs, spool.Run{ID: runID(7), First: 141})
			return l.begin(3, 160, 140)
		}, 140, true},
		"a run that never had a lease": {func(l *leaser) *client.Fork {
			l.runs = append(l.runs, spool.Run{ID: runID(7), First: 151})
			return l.begin(3, 160, 150)
		}, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			f := newFixture(t)
			f.cask = fmt.Sprintf("forks-%x", f.agent(0)[:8])
			l := &leaser{f: f, machine: "a"}
			l.begin(1, 1, 0)
			if err := l.send(1, 100); err != nil {
				t.Fatal(err)
			}
			l.begin(2, 101, 100)
			if err := l.send(101, 50); err != nil {
				t.Fatal(err)
			}
			fork := c.agent(l)
			if c.last == 0 && name != "a spool that was lost" {
				if fork != nil {
					t.Errorf("%+v", fork)
				}
				return
			}
			if fork == nil || fork.Last != c.last || fork.Confirmed != 150 || fork.SameMachine != c.sameMachine || fork.Run != runID(2) {
				t.Fatalf("%+v", fork)
			}
			if err := l.send(151, 1); !noLease(err) {
				t.Errorf("it writes all the same: %v", err)
			}
		})
	}
}

// A look gives nothing: who had the lease has it still.
func TestALookTakesNoLease(t *testing.T) {
	f := newFixture(t)
	l := &leaser{f: f, machine: "a"}
	l.begin(1, 1, 0)
	other := &leaser{f: f, machine: "b", runs: l.runs}
	other.ask(client.Lease{Run: runID(2), First: 1, Look: true})
	if err := l.send(1, 10); err != nil {
		t.Error(err)
	}
	if answer := other.ask(client.Lease{Run: runID(2), First: 1, Store: "another", Confirmed: 5}); !answer.Elsewhere || answer.Store == "another" {
		t.Errorf("%+v", answer)
	}
}

// Who has the token of a host cannot fill the store with feeds that have nothing in them.
func TestTheFeedsOfAnAgentAreBounded(t *testing.T) {
	oneAtATime(t)
	f := newFixture(t)
	ctx, c := context.Background(), f.writer(f.agent(1))
	for n := range 1000 {
		if _, err := c.Lease(ctx, f.agent(1), "centre", f.cask, runID(n), client.Lease{Run: runID(1), First: 1, Runs: []spool.Run{}}); err != nil {
			t.Fatal(n, err)
		}
	}
	if _, err := c.Lease(ctx, f.agent(1), "centre", f.cask, runID(1000), client.Lease{Run: runID(1), First: 1, Runs: []spool.Run{}}); !refusedWith(err, 403) {
		t.Errorf("one more: %v", err)
	}
	head, payload := pack(1, some(1))
	if _, err := c.SendBatch(ctx, f.agent(1), "another", f.cask, head, payload); !refusedWith(err, 403) {
		t.Errorf("one without a lease: %v", err)
	}
	if _, err := c.Lease(ctx, f.agent(1), "centre", f.cask, runID(7), client.Lease{Run: runID(2), First: 1, Runs: []spool.Run{{ID: runID(1), First: 1}}}); err != nil {
		t.Errorf("one that is there: %v", err)
	}
}
