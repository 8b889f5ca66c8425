package route

import (
	"math/rand/v2"
	"slices"
	"testing"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

func TestTheMatrixOfASmallPlan(t *testing.T) {
	matrix := lantern(t).Matrix()
	for _, c := range []struct {
		priority      string
		surely, maybe []int
		nowhere       condition.Verdict
	}{
		{"local3.info", nil, []int{0}, condition.Maybe},
		{"local3.error", []int{0}, nil, condition.Never},
		{"auth.error", []int{0, 1, 2}, nil, condition.Never},
		{"auth.info", nil, []int{0, 1, 2}, condition.Maybe},
		{"kern.critical", []int{0, 2}, nil, condition.Never},
	} {
		p, _ := record.ParsePriority(c.priority)
		if got := matrix[p]; !slices.Equal(got.Surely, c.surely) || !slices.Equal(got.Maybe, c.maybe) || got.Nowhere != c.nowhere {
			t.Errorf("%s: %+v", c.priority, got)
		}
	}
	p, _ := record.ParsePriority("user.error")
	if got := changing(t).Matrix()[p]; len(got.Surely) > 0 || !slices.Equal(got.Maybe, []int{0, 1}) || got.Nowhere != condition.Maybe {
		t.Errorf("where rules relabel: %+v", got)
	}
}

// No record goes where the matrix rules it out, and each goes where it says surely.
func TestTheMatrixHoldsForEveryRecord(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		table := randomTable(t, rnd)
		matrix := table.Matrix()
		for range 50 {
			r := record.Record{Priority: record.Priority(rnd.IntN(192)), App: []byte{"abc"[rnd.IntN(3)]}, Text: []byte{"xy"[rnd.IntN(2)]}}
			reach := matrix[r.Priority]
			way := table.Explain(&r)
			for _, o := range reach.Surely {
				if !slices.Contains(way.Outlets, o) {
					t.Fatalf("outlet %d is said to be sure: %+v, %+v", o, reach, way)
				}
			}
			for _, o := range way.Outlets {
				if !slices.Contains(reach.Surely, o) && !slices.Contains(reach.Maybe, o) {
					t.Fatalf("outlet %d is ruled out: %+v, %+v", o, reach, way)
				}
			}
			if nowhere := len(way.Outlets) == 0; nowhere && reach.Nowhere == condition.Never || !nowhere && reach.Nowhere == condition.Always {
				t.Fatalf("nowhere: %+v, %+v", reach, way)
			}
		}
	}
}
