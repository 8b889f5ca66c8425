package outlet

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"

	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/spool"
)

// identity is who the agent is to the store: its folder.
type identity interface {
	AgentID() string
	Run() string
	Machine() string
	// BecomeAnother gives the agent another identity than the one it was found to share.
	BecomeAnother(was string, fork client.ForkStatus) error
	// AddFork keeps that the folder was found to be a copy, or to be set back.
	AddFork(client.ForkStatus)
	// KeepToken keeps a token that the store gave in the place of another one.
	KeepToken(of, token string) error
	// ForgetToken lets go of such a token, and tells whether there was one.
	ForgetToken() bool
}

// errNewFeed says that the numbers go to a feed that is begun anew: ask again.
var errNewFeed = errors.New("the feed begins anew")

// mostTurns bounds how often a lease is asked for in a row.
const mostTurns = 5

// begin gets the lease of the feed, and tells how far the store has it. here is the
// last number that was confirmed.
func (s *storeRoad) begin(ctx context.Context, here uint64) (uint64, error) {
	for range mostTurns {
		confirmed, err := s.lease(ctx, max(here, s.spool.Feed().Base))
		if !errors.Is(err, errNewFeed) {
			return confirmed, err
		}
	}
	return here, errElsewhere // another agent comes between each time; later
}

// lease asks for the lease once. The error is errNewFeed where it is to be asked for
// again, as what there was is settled now.
func (s *storeRoad) lease(ctx context.Context, here uint64) (uint64, error) {
	feed, id := s.spool.Feed(), s.self.AgentID()
	switch {
	case feed.Agent != "" && feed.Agent != id:
		return here, s.leaveFeed(ctx, feed, here)
	case feed.Cask != "" && feed.Cask != s.cask: // what went into the other one is there
		return here, s.newFeed(spool.Feed{Store: feed.Store, Base: here})
	}
	answer, err := s.ask(ctx, feed, here, false)
	var problem *client.Problem
	switch {
	case errors.As(err, &problem) && problem.Join:
		return here, s.join(ctx)
	case problem != nil && problem.Status == http.StatusUnauthorized && s.self.ForgetToken():
		return here, errNewFeed // with the one that the plan names: the store does not know the other any more
	}
	switch {
	case err != nil:
		return here, err
	case answer.Elsewhere:
		s.log.Warn("this is another store than before; what was delivered to the other one is not sent again", "outlet", s.outlet, "records", here)
		return here, s.newFeed(spool.Feed{Store: answer.Store, Base: here})
	case answer.Fork != nil:
		return here, s.part(feed, id, answer.Fork, here)
	case answer.Confirmed >= here && !s.chain.has(answer.Link):
		return here, s.partFromTwin(here)
	}
	if now := (spool.Feed{Store: answer.Store, Cask: s.cask, Agent: id, Generation: feed.Generation, Base: feed.Base, Twice: feed.Twice}); now != feed {
		if err := s.spool.SetFeed(now); err != nil {
			return here, err
		}
	}
	for _, g := range answer.Gone {
		s.self.AddFork(client.ForkStatus{Outlet: s.outlet, What: fmt.Sprintf("the store does not have numbers %d to %d of the time before the folder was set back any more: its database was set back too; they are told as lost", g.First, g.Last)})
	}
	s.chain.begin(answer)
	s.mostBytes.Store(answer.MostBytes)
	return s.goBack(answer, here)
}

// ask asks for the lease, or with look only where it stands.
func (s *storeRoad) ask(ctx context.Context, feed spool.Feed, here uint64, look bool) (client.Leased, error) {
	asks := client.Lease{Run: s.run, First: s.first(), Confirmed: here, Base: feed.Base, Runs: append([]spool.Run{}, s.spool.Runs()...), Store: feed.Store, Machine: s.self.Machine(), Older: s.older(feed), Look: look}
	agent, cask := s.self.AgentID(), s.cask
	if look {
		agent, cask = feed.Agent, feed.Cask
	}
	return s.service.Lease(ctx, agent, s.outlet, cask, feed.Generation, asks)
}

// older are the generations before this one of the same agent, cask and store.
func (s *storeRoad) older(feed spool.Feed) (older []client.Older) {
	for _, o := range s.spool.Older() {
		if o.Store == feed.Store && o.Cask == feed.Cask && o.Agent == feed.Agent {
			older = append(older, client.Older{Generation: o.Generation, Base: o.Base, Last: o.Last})
		}
	}
	return older
}

// first is the first number that this run gives out.
func (s *storeRoad) first() uint64 {
	for _, r := range s.spool.Runs() {
		if r.ID == s.run {
			return r.First
		}
	}
	return s.spool.State().Next
}

// newFeed has the numbers go to a feed that begins anew, which no other one is.
func (s *storeRoad) newFeed(f spool.Feed) error {
	f.Cask, f.Agent, f.Generation = s.cask, s.self.AgentID(), state.NewID()
	f.Twice = max(f.Twice, s.spool.Feed().Twice) // what another copy had before, it has still
	s.chain.forget()
	if err := s.spool.SetFeed(f); err != nil {
		return err
	}
	return errNewFeed
}

// part settles that the folder is not the one that the store knows. What the store
// has of it is done; what both held then may be there twice; all else is sent.
func (s *storeRoad) part(feed spool.Feed, id string, f *client.Fork, here uint64) error {
	done := max(here, min(f.Confirmed, f.Last, s.first()-1))
	told := client.ForkStatus{Outlet: s.outlet, What: fmt.Sprintf("the store has records behind number %d that are not of this folder, since %s", f.Last, f.Since.Local().Format("2006-01-02 15:04:05"))}
	if f.SameMachine {
		told.What += ": it was set back, or the power failed; it goes on with new numbers"
		s.self.AddFork(told)
	} else {
		told.What += ": it is a copy of another machine's, which has the identity; this agent has a new one"
		told.Mend = "let it in with: oakbarrel hosts adopt"
		if err := s.self.BecomeAnother(id, told); err != nil {
			return err
		}
	}
	if f.SameMachine { // else another agent goes on with it
		if err := s.spool.AddOlder(f.Confirmed); err != nil {
			return err
		}
	}
	err := s.newFeed(spool.Feed{Store: feed.Store, Base: done, Twice: s.heldByBoth(f)})
	s.endDoubt()
	return err
}

// inDoubt stands for all numbers until the files are read to their ends: a folder that
// was set back reads lines again that have arrived.
const inDoubt = math.MaxUint64

// endDoubt ends the doubt once all lines that were there have been read.
func (s *storeRoad) endDoubt() {
	if s.spool.Feed().Twice != inDoubt || !s.allRead() {
		return
	}
	if err := s.spool.SetTwice(s.spool.State().Written); err != nil {
		s.log.Warn("it cannot be written down that the files are read again; more is marked than need be", "outlet", s.outlet, "why", err)
	}
}

// heldByBoth returns the last number of what a copy of the folder may have held too.
func (s *storeRoad) heldByBoth(f *client.Fork) uint64 {
	if f.SameMachine {
		return inDoubt
	}
	if s.chain.begun() { // the copy was made while this run had the lease
		return max(f.Last, f.Held)
	}
	return max(s.first()-1, f.Held)
}

// partFromTwin settles that somebody writes under the very run of this agent: the
// whole machine was copied while it ran.
func (s *storeRoad) partFromTwin(here uint64) error {
	s.run = state.NewID()
	if err := s.spool.BeginRun(s.run); err != nil {
		return err
	}
	s.self.AddFork(client.ForkStatus{Outlet: s.outlet, What: fmt.Sprintf("another agent writes under the same run, behind number %d: the machine was copied while it ran; this one goes on with new numbers", here), Mend: "stop one of the two, or give it a new state folder"})
	return s.newFeed(spool.Feed{Store: s.spool.Feed().Store, Base: here, Twice: s.spool.State().Written})
}

// leaveFeed settles what an agent held under the identity that it had before: what
// arrived under that is done, as far as the store tells.
func (s *storeRoad) leaveFeed(ctx context.Context, feed spool.Feed, here uint64) error {
	mine := s.first() - 1
	done, twice := here, mine
	answer, err := s.ask(ctx, feed, here, true)
	var problem *client.Problem
	switch {
	case errors.As(err, &problem) && problem.Status < http.StatusInternalServerError: // it tells nobody else
	case err != nil:
		return err
	case answer.Fork != nil:
		done, twice = max(here, min(answer.Fork.Confirmed, answer.Fork.Last, mine)), max(mine, answer.Fork.Held)
	case !answer.Elsewhere:
		done = max(here, min(answer.Confirmed, mine))
	}
	return s.newFeed(spool.Feed{Store: feed.Store, Base: done, Twice: twice})
}

// join asks for a token of this agent's own, as it has that of another one.
func (s *storeRoad) join(ctx context.Context) error {
	of, err := s.fileToken()
	if err != nil {
		return err
	}
	got, err := s.service.Join(ctx, s.self.AgentID(), client.Join{Host: s.host()})
	if err != nil {
		return err
	}
	s.log.Info("the store has let this agent in", "outlet", s.outlet, "known_as", got.Label)
	if err := s.self.KeepToken(of, got.Token); err != nil {
		return err
	}
	return errNewFeed
}

// goBack goes back where the store has less than it had confirmed: what is here
// still is sent again, and the rest is told as lost.
func (s *storeRoad) goBack(answer client.Leased, here uint64) (uint64, error) {
	if answer.Confirmed >= here {
		return answer.Confirmed, nil
	}
	s.self.AddFork(client.ForkStatus{Outlet: s.outlet, What: fmt.Sprintf("the store does not have numbers %d to %d any more, which it had confirmed: its database was set back; what is here still is sent again, and the rest told as lost", answer.Confirmed+1, here)})
	back, err := s.spool.GoBack(answer.Confirmed)
	s.heldAgain(back)
	return answer.Confirmed, err
}
