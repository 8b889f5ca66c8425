package api

import (
	"context"
	"errors"
	"slices"
	"testing"
	"testing/synctest"
	"time"
)

// However many requests one visitor has waiting, another comes next but one.
func TestVisitorsHaveTheirTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var s seats
		var order []string
		if !s.take("first", 1, 1) || s.take("second", 1, 1) {
			t.Fatal("one seat is one seat")
		}
		request := func(who string) {
			go func() {
				if err := s.wait(t.Context(), who, 1, 1); err != nil {
					t.Error(err)
				}
				order = append(order, who)
				s.leave(who)
			}()
			synctest.Wait()
		}
		for range 20 {
			request("many")
		}
		request("a")
		request("b")
		s.leave("first")
		synctest.Wait()
		if len(order) != 22 || !slices.Equal(order[:4], []string{"many", "a", "b", "many"}) {
			t.Errorf("the order is %v", order)
		}
		if s.taken != 0 || len(s.by)+len(s.lines)+len(s.turns) != 0 {
			t.Errorf("something is left: %+v", &s)
		}
	})
}

// One whose visitor has as many as it may have lets others by, and one that gives up
// keeps nothing.
func TestWhoMayNotSitLetsOthersBy(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var s seats
		s.take("greedy", 3, 2)
		s.take("greedy", 3, 2)
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		gaveUp := make(chan error, 1)
		go func() { gaveUp <- s.wait(ctx, "greedy", 3, 2) }()
		synctest.Wait()
		if err := s.wait(t.Context(), "modest", 3, 2); err != nil {
			t.Error(err)
		}
		if err := <-gaveUp; !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("the third of two seats: %v", err)
		}
		s.leave("greedy")
		s.leave("greedy")
		s.leave("modest")
		if s.taken != 0 || len(s.by)+len(s.lines)+len(s.turns) != 0 {
			t.Errorf("something is left: %+v", &s)
		}
	})
}
