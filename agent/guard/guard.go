// Package guard keeps a fault in one part of an agent from ending the others.
//
// Every part that runs by itself is run by a [Guard]: an endpoint of an intake,
// an outlet, the tending of files, the link to the service. A panic ends that
// part alone. The guard notes where in the code it happened and what it cost,
// and the part is begun again from what stands on the disk, as after a kill:
// after a second at first, then after longer, up to a minute.
//
// An agent makes one guard, and all of its goroutines may use it at a time.
// Begin with [Guard.Run] and [Guard.Keep].
package guard

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"oakbarrel/client"
)

const (
	firstRest = time.Second
	lastRest  = time.Minute
	calmTime  = 2 * time.Minute // after which a part that runs is taken for well again
)

// Guard runs the parts of an agent and remembers their faults.
type Guard struct {
	logger *slog.Logger
	ending context.Context

	mu     sync.Mutex
	faults []*client.Fault
}

// New returns a guard that begins no part again once ending is done.
func New(ending context.Context, log *slog.Logger) *Guard {
	return &Guard{logger: log, ending: ending}
}

// Intake names the part that an intake is.
func Intake(name string) string { return "intake " + name }

// Outlet names the part that an outlet is.
func Outlet(name string) string { return "outlet " + name }

// Run runs a part and tells whether it failed.
func (g *Guard) Run(part string, run func()) (failed bool) {
	defer func() {
		if what := recover(); what != nil {
			failed = true
			g.Failed(part, what)
		}
	}()
	run()
	return false
}

// Keep runs a part until it ends by itself or the agent does. Where it fails it
// is run again after a rest.
func (g *Guard) Keep(part string, run func()) {
	var last time.Duration
	for {
		begun := time.Now()
		if !g.Run(part, run) || !g.Rest(part, &last, time.Since(begun)) {
			return
		}
	}
}

// Rest waits before a part is begun again, and returns false where the agent
// ends. The part keeps its last rest in last; the longer it has run well, the
// shorter the next one is.
func (g *Guard) Rest(part string, last *time.Duration, ran time.Duration) bool {
	*last = min(max(2**last, firstRest), lastRest)
	if ran > calmTime {
		*last = firstRest
	}
	next := time.Now().Add(*last)
	g.setNext(part, &next)
	select {
	case <-g.ending.Done():
		return false
	case <-time.After(*last):
	}
	g.setNext(part, nil)
	return true
}

// setNext notes when a part is begun again, nil where it runs.
func (g *Guard) setNext(part string, next *time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.faultOf(part).Next = next
}

// Failed notes that a part has panicked with what. It is to be called by the
// deferred function that recovers, so that the place in the code is known.
func (g *Guard) Failed(part string, what any) {
	where, stack := whereFailed(), debug.Stack()
	g.mu.Lock()
	fault := g.faultOf(part)
	fault.Count++
	fault.Last, fault.What, fault.Where = time.Now(), fmt.Sprint(what), where
	count := fault.Count
	g.mu.Unlock()
	g.logger.Error("a part of the agent has failed; the others go on, and it is begun again", "part", part, "what", fmt.Sprint(what), "where", where, "times", count)
	g.logger.Debug("where a part has failed", "part", part, "stack", string(stack))
}

// Lose counts records that a fault of a part cost.
func (g *Guard) Lose(part string, records int64) {
	if records == 0 {
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.faultOf(part).Lost += records
}

// Faults returns a copy of the faults of this run.
func (g *Guard) Faults() []client.Fault {
	g.mu.Lock()
	defer g.mu.Unlock()
	list := []client.Fault{}
	for _, fault := range g.faults {
		list = append(list, *fault)
	}
	return list
}

// faultOf returns what is known of a part. It is called with the lock.
func (g *Guard) faultOf(part string) *client.Fault {
	for _, known := range g.faults {
		if known.Part == part {
			return known
		}
	}
	fault := &client.Fault{Part: part, First: time.Now()}
	g.faults = append(g.faults, fault)
	return fault
}

// Pause waits for a time, or until ctx is done.
func Pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Handler answers 500 where a handler fails, which is a fault of the part that
// it belongs to.
func (g *Guard) Handler(part func() string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if g.Run(part(), func() { h.ServeHTTP(w, r) }) {
			http.Error(w, "this request has made the agent fail; its log tells where", http.StatusInternalServerError)
		}
	})
}

// whereFailed returns the place of the panic that is recovered from.
func whereFailed() string {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(0, pcs)])
	panicked := false
	for {
		f, more := frames.Next()
		if panicked && !strings.HasPrefix(f.Function, "runtime.") {
			return placeOf(f)
		}
		panicked = panicked || f.Function == "runtime.gopanic" || strings.HasPrefix(f.Function, "runtime.sigpanic")
		if !more {
			return "not known"
		}
	}
}

// placeOf returns the package of ours, the file and the line of a frame, wherever
// the code was compiled.
func placeOf(f runtime.Frame) string {
	name := strings.LastIndexByte(f.Function, '/') + 1
	dot := strings.IndexByte(f.Function[name:], '.')
	folder := strings.TrimPrefix(f.Function[:name+max(dot, 0)], "oakbarrel/")
	return fmt.Sprintf("%s/%s:%d", folder, filepath.Base(f.File), f.Line)
}
