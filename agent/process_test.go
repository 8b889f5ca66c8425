package agent

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/agent/control"
	"oakbarrel/agent/intake"
	"oakbarrel/agent/roomtest"
	"oakbarrel/client"
)

// The test's binary stands in for oakbarrel where an agent starts the process
// that holds a pipe.
func TestMain(m *testing.M) {
	if len(os.Args) == 4 && os.Args[1] == "hold-pipe" {
		if err := intake.HoldPipe(os.Args[2], os.Args[3], func() { fmt.Println("ready") }); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	if err := roomtest.Find(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// running is an agent in the process of a test.
type running struct {
	t      *testing.T
	dir    string
	reload chan os.Signal
	end    context.CancelFunc
	ended  chan error
}

func (r *running) path(name string) string { return filepath.Join(r.dir, name) }

// run runs an agent with a plan, in which DIR stands for the folder of the test.
func run(t *testing.T, plan string) *running {
	t.Helper()
	r := &running{t: t, dir: t.TempDir(), ended: make(chan error, 1), reload: make(chan os.Signal)}
	r.writePlan(plan)
	r.start()
	return r
}

func (r *running) writePlan(text string) {
	r.t.Helper()
	if err := os.WriteFile(r.path("plan.yaml"), []byte(strings.ReplaceAll(text, "DIR", r.dir)), 0o600); err != nil {
		r.t.Fatal(err)
	}
}

func (r *running) start() {
	r.t.Helper()
	ctx, end := context.WithCancel(context.Background())
	r.end = end
	ready := make(chan struct{})
	go func() {
		r.ended <- Run(ctx, Options{PlanFile: r.path("plan.yaml"), StateDir: r.path("state"), Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Ready: func() { close(ready) }, Reload: r.reload})
	}()
	select {
	case <-ready:
	case err := <-r.ended:
		r.t.Fatal(err)
	}
}

func (r *running) stop() {
	r.t.Helper()
	r.end()
	if err := <-r.ended; err != nil {
		r.t.Fatal(err)
	}
}

// takePlan has the agent read another plan, and waits until it has.
func (r *running) takePlan(text string) {
	r.t.Helper()
	r.writePlan(text)
	r.reload <- os.Interrupt
	r.until("the plan is read", func() bool {
		s := r.status()
		return !s.Plan.ChangedOnDisk || s.Plan.Refused != nil
	})
}

func (r *running) status() client.Status {
	r.t.Helper()
	s, err := control.AskStatus(context.Background(), r.path("state"))
	if err != nil {
		r.t.Fatal(err)
	}
	return s
}

// until waits until something has come about.
func (r *running) until(what string, is func() bool) {
	r.t.Helper()
	for end := time.Now().Add(10 * time.Second); !is(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			r.t.Fatalf("it does not come about that %s: %+v", what, r.status())
		}
	}
}

// lines returns the lines of a file.
func (r *running) lines(name string) []string {
	b, _ := os.ReadFile(r.path(name))
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
}

// write appends to a file.
func (r *running) write(name, text string) {
	r.t.Helper()
	f, err := os.OpenFile(r.path(name), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err == nil {
		_, err = f.WriteString(text)
		f.Close()
	}
	if err != nil {
		r.t.Fatal(err)
	}
}

// times returns how often each line stands in a file.
func (r *running) times(name string) map[string]int {
	times := map[string]int{}
	for _, l := range r.lines(name) {
		times[l]++
	}
	return times
}
