package watch

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// way tells the hops of a record whose way is a list of looks, one each 10 ms.
func way(t *testing.T, looks ...client.Trace) (hops []string, arrived bool) {
	t.Helper()
	at := 0
	w := Watcher{Mark: "trace-7", Start: time.Now(), Tell: func(h client.Hop) {
		hops = append(hops, strings.TrimSpace(fmt.Sprintf("%v %s %s: %s", h.Done, h.Hop, h.Outlet, h.Detail)))
	}}
	_, arrived, err := w.Watch(context.Background(), 100*time.Millisecond, func() (client.Trace, error) {
		now := looks[min(at, len(looks)-1)]
		at++
		return now, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return hops, arrived
}

func expect(t *testing.T, got []string, want ...string) {
	t.Helper()
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// Each hop is told once, in the order in which it came about; where a record stops
// it is told why.
func TestHopsAreToldAsTheyComeAbout(t *testing.T) {
	live := filepath.Join(t.TempDir(), "all.log")
	if err := os.WriteFile(live, []byte("another\na traced record, trace-7\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	taken := time.Now()
	through := client.Trace{TakenIn: &taken, Intake: "local", Rules: []client.TraceRule{{Name: "worst", Changes: []string{"severity is error"}}}}
	outlets := func(done bool, trouble string) client.Trace {
		now := through
		now.Outlets = []client.OutletOfTrace{
			{Name: "all", Kind: plan.FileOutlet, Path: live, Done: true}, {Name: "centre", Kind: plan.StoreOutlet, Path: "cask reef", Spooled: true, Done: done, Trouble: trouble},
		}
		return now
	}
	synctest.Test(t, func(t *testing.T) {
		hops, arrived := way(t, client.Trace{}, through)
		if arrived {
			t.Error("it goes nowhere, and has arrived")
		}
		expect(t, hops, "true taken in : by intake local", "true rules : matched worst (severity is error); goes nowhere")
	})
	synctest.Test(t, func(t *testing.T) {
		hops, arrived := way(t, client.Trace{}, outlets(false, ""), outlets(true, ""))
		if !arrived {
			t.Error("it has arrived")
		}
		expect(t, hops, "true taken in : by intake local", "true rules : matched worst (severity is error); goes to all, centre",
			"true written all: "+live+", offset 8", "true spooled centre: for cask reef", "true confirmed centre: by the store, in cask reef")
	})
	synctest.Test(t, func(t *testing.T) {
		hops, arrived := way(t, outlets(false, "no route to the store"))
		if arrived {
			t.Error("it has not arrived")
		}
		if last := hops[len(hops)-1]; last != "false confirmed centre: no route to the store" {
			t.Errorf("it stopped at %s", last)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		hops, arrived := way(t, client.Trace{})
		if arrived || len(hops) != 1 || !strings.HasPrefix(hops[0], "false taken in : the agent has not seen it") {
			t.Errorf("%v %q", arrived, hops)
		}
	})
}

func TestALookThatFailsEndsTheWatch(t *testing.T) {
	w := Watcher{Tell: func(client.Hop) {}}
	if _, _, err := w.Watch(context.Background(), time.Second, func() (client.Trace, error) { return client.Trace{}, errors.New("no agent") }); err == nil {
		t.Error("no error")
	}
}
