package api_test

import (
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"oakbarrel/service/search"
	"oakbarrel/service/shelf"
)

// A histogram whose counts the databases add up is the one that adding up the minutes gives, for
// any span and any number of parts, also while feeds move from shelf to shelf.
func TestHistogramsAddUpTheMinutes(t *testing.T) {
	oneAtATime(t)
	if os.Getenv("OAKBARREL_RACE") != "" {
		t.Skip("it does much, and nothing at a time")
	}
	s := newShelved(t, "north")
	rnd := rand.New(rand.NewPCG(3, 4))
	next := map[int]int{}
	for range 60 {
		agent, n := rnd.IntN(4), 1+rnd.IntN(40)
		if err := s.sendAt(agent, next[agent]+1, n, func(int) int64 { return rnd.Int64N(40 * 24 * 3600) }); err != nil {
			t.Fatal(err)
		}
		next[agent] += n
	}
	const begin = 1795600800
	look := func(what string) {
		t.Helper()
		for range 12 {
			q := search.Query{Casks: []uint64{s.cask}}
			parts := 1 + rnd.IntN(200)
			q.Since = (begin+rnd.Int64N(30*24*3600))*1e6 + rnd.Int64N(1e6)
			q.Until = q.Since + int64(parts)*60e6 + rnd.Int64N(40*24*3600*1e6)
			got, err := s.search.Histogram(t.Context(), q, parts)
			if err != nil {
				t.Fatal(err)
			}
			want := make([]int64, parts)
			whole := q
			whole.Since, whole.Until = q.Since/60e6*60e6, (q.Until+60e6-1)/60e6*60e6
			_, minutes, err := s.search.CountBy(t.Context(), whole, "minute")
			if err != nil {
				t.Fatal(err)
			}
			for _, m := range minutes {
				at, err := time.Parse(time.RFC3339, m.Key)
				if err != nil {
					t.Fatal(err)
				}
				part := int64(float64(at.UnixMicro()-q.Since) / float64(q.Until-q.Since) * float64(parts))
				want[max(0, min(part, int64(parts)-1))] += m.Count
			}
			for i, bySeverity := range got {
				var n int64
				for _, of := range bySeverity {
					n += of
				}
				if n != want[i] {
					t.Fatalf("%s: part %d of %d has %d records, want %d", what, i, parts, n, want[i])
				}
			}
		}
	}
	look("as they came")
	if err := shelf.Drain(s.first, "north", true); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2500 * time.Millisecond) // the service looks now and then
	for range 15 {
		if _, err := s.keepers("drains")["north"].Once(t.Context()); err != nil {
			t.Fatal(err)
		}
		look("as they move")
	}
}
