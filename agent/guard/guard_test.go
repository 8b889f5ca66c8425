package guard

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

// A part that fails is begun again after a second, then after longer, up to a
// minute; one that ran well for long begins with a second again.
func TestAPartThatFailsIsBegunAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, end := context.WithCancel(t.Context())
		g := New(ctx, quiet())
		var mu sync.Mutex // of what both goroutines use
		var begun []time.Duration
		start, well := time.Now(), false
		done := make(chan struct{})
		go func() {
			defer close(done)
			g.Keep("tend", func() {
				mu.Lock()
				begun = append(begun, time.Since(start))
				long := well
				mu.Unlock()
				if long {
					time.Sleep(3 * time.Minute)
				}
				mu.Lock()
				start = time.Now()
				mu.Unlock()
				panic("a fault of ours")
			})
		}()
		time.Sleep(200 * time.Second)
		mu.Lock()
		want := []time.Duration{0, time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second, 16 * time.Second, 32 * time.Second, time.Minute, time.Minute}
		for i, d := range want {
			if i >= len(begun) || begun[i] != d {
				t.Fatalf("it was begun after %v, want %v", begun, want)
			}
		}
		f := g.Faults()
		if len(f) != 1 || f[0].Part != "tend" || f[0].Count != int64(len(begun)) || f[0].What != "a fault of ours" || !strings.HasPrefix(f[0].Where, "agent/guard/guard_test.go:") || f[0].Next == nil {
			t.Errorf("told %+v", f)
		}
		well = true
		mu.Unlock()
		time.Sleep(5 * time.Minute)
		mu.Lock()
		if last := begun[len(begun)-1]; last != time.Second {
			t.Errorf("after a calm time it rests for %s", last)
		}
		mu.Unlock()
		end()
		<-done
	})
}

func TestALossIsCountedWithItsPart(t *testing.T) {
	g := New(t.Context(), quiet())
	g.Lose(Intake("local"), 0)
	if f := g.Faults(); len(f) != 0 {
		t.Errorf("nothing was lost, and told is %+v", f)
	}
	g.Lose(Outlet("all"), 3)
	g.Lose(Outlet("all"), 4)
	if f := g.Faults(); len(f) != 1 || f[0].Part != "outlet all" || f[0].Lost != 7 {
		t.Errorf("%+v", f)
	}
	if g.Run("pass", func() {}) {
		t.Error("what did not fail is told as failed")
	}
}

func TestARequestThatFailsIsAnswered(t *testing.T) {
	g := New(t.Context(), quiet())
	w := httptest.NewRecorder()
	g.Handler(func() string { return "control" }, http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic("a fault") })).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	if w.Code != 500 || len(g.Faults()) != 1 {
		t.Errorf("%d %+v", w.Code, g.Faults())
	}
}
