package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// fakeWay is an endpoint that says what a test has it say.
type fakeWay struct {
	intake.Common
	address string
	quit    chan struct{}
	once    sync.Once
}

func (f *fakeWay) Run()            { <-f.quit }
func (f *fakeWay) Drain(time.Time) { f.Close() }
func (f *fakeWay) Close()          { f.once.Do(func() { close(f.quit) }) }
func (f *fakeWay) Bound() string   { return f.address }
func (f *fakeWay) isOpen() bool {
	select {
	case <-f.quit:
		return false
	default:
		return true
	}
}

// stage is an agent whose ways in and out are fakes.
type stage struct {
	t     *testing.T
	agent *Agent
	ways  map[string]*fakeWay // by address, those that were opened last
	fails map[string]error    // why an address cannot be opened
}

func newStage(t *testing.T) *stage {
	t.Helper()
	a, err := open(Options{StateDir: t.TempDir(), PlanFile: "plan.yaml", Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		t.Fatal(err)
	}
	s := &stage{t: t, agent: a, ways: map[string]*fakeWay{}, fails: map[string]error{}}
	a.openEndpoint = func(key intake.Key, _ *plan.Intake) (intake.Endpoint, error) {
		if err := s.fails[key.Address]; err != nil {
			return nil, err
		}
		w := &fakeWay{address: key.String(), quit: make(chan struct{})}
		s.ways[key.Address] = w
		return w, nil
	}
	t.Cleanup(func() { a.stop(); a.state.Close() })
	return s
}

// adopt puts a plan in force, whose intakes listen on sockets with the names given,
// and whose outlets are files of a folder of the test.
func (s *stage) adopt(dir string, intakes, outlets []string) error {
	s.t.Helper()
	var b strings.Builder
	b.WriteString("oakbarrel: 1\nhost: reef-02\nintakes:\n")
	for _, name := range intakes {
		fmt.Fprintf(&b, "  %s: {syslog: {socket: /run/%s}}\n", name, name)
	}
	fmt.Fprintf(&b, "rules: []\notherwise: {send: [%s]}\noutlets:\n", strings.Join(outlets, ", "))
	for _, name := range outlets {
		fmt.Fprintf(&b, "  %s: {file: {path: %s/%s.log, format: '{text}', keep: forever}}\n", name, dir, name)
	}
	p, findings := plan.Parse("plan.yaml", []byte(b.String()))
	if p == nil {
		s.t.Fatalf("%s: %v", b.String(), findings)
	}
	return s.agent.adopt(p, nil)
}

// pass has an intake pass a record on, and tells whether it was taken.
func (s *stage) pass(name, text string, canWait bool) bool {
	b := &record.Batch{}
	r := b.Next()
	r.Text, r.Priority = []byte(text), record.DefaultPriority
	return s.agent.pass(b, &route.Routing{}, s.ways["/run/"+name], canWait)
}

// A plan that cannot be put in force as a whole changes nothing; one that can
// keeps what is alike in both.
func TestAPlanIsTakenAsAWholeOrNotAtAll(t *testing.T) {
	s, dir := newStage(t), t.TempDir()
	if err := s.adopt(dir, []string{"pumps", "tickets"}, []string{"all"}); err != nil {
		t.Fatal(err)
	}
	pumps, tickets := s.ways["/run/pumps"], s.ways["/run/tickets"]
	s.pass("pumps", "one", true)

	s.fails["/run/gate"] = errors.New("a seal sits on it")
	err := s.adopt(dir, []string{"pumps", "doors", "gate"}, []string{"all", "more"})
	var wrong *IntakeError
	if !errors.As(err, &wrong) || wrong.Intake != "gate" {
		t.Errorf("the error is %v", err)
	}
	if doors := s.ways["/run/doors"]; doors.isOpen() || !pumps.isOpen() || !tickets.isOpen() || len(s.agent.Status().Outlets) != 1 {
		t.Error("a plan that was not taken has changed something")
	}

	delete(s.fails, "/run/gate")
	if err := s.adopt(dir, []string{"pumps", "gate"}, []string{"more", "all"}); err != nil {
		t.Fatal(err)
	}
	if s.ways["/run/pumps"] != pumps || !pumps.isOpen() || tickets.isOpen() {
		t.Error("what is alike in both plans was opened anew, or what is gone is open still")
	}
	s.pass("pumps", "two", true)
	st := s.agent.Status()
	names := []string{st.Outlets[0].Name, st.Outlets[1].Name}
	if !slices.Equal(names, []string{"more", "all"}) || st.Outlets[0].In != 1 || st.Outlets[1].In != 2 || !st.Balance.Closes {
		t.Errorf("%+v, %+v", st.Outlets, st.Balance)
	}
}

// slowOutlet is a file outlet that a test can make full.
type slowOutlet struct {
	outlet.Outlet
	mu   sync.Mutex
	room chan struct{} // nil where there is room
}

func (o *slowOutlet) WaitForRoom() <-chan struct{} {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.room
}

// Whoever can wait is held back while an outlet is full, and goes on when it has
// room; who cannot is not. When the agent stops, who waits is told that it was not
// taken.
func TestWhoCanWaitIsHeldBack(t *testing.T) {
	s, dir := newStage(t), t.TempDir()
	slow := &slowOutlet{}
	openOutlet := s.agent.openOutlet
	s.agent.openOutlet = func(settings plan.Outlet) (o outlet.Outlet, err error) {
		slow.Outlet, err = openOutlet(settings)
		return slow, err
	}
	if err := s.adopt(dir, []string{"pumps"}, []string{"all"}); err != nil {
		t.Fatal(err)
	}
	room := make(chan struct{})
	slow.room = room
	if !s.pass("pumps", "cannot wait", false) {
		t.Error("who cannot wait was not taken")
	}
	taken := make(chan bool)
	go func() { taken <- s.pass("pumps", "waits", true) }()
	select {
	case <-taken:
		t.Fatal("it did not wait")
	case <-time.After(50 * time.Millisecond):
	}
	if in := s.agent.Status().Rules.In; in != 1 {
		t.Errorf("%d records are counted as in while one waits", in)
	}
	slow.mu.Lock()
	slow.room = nil
	slow.mu.Unlock()
	close(room)
	if !<-taken {
		t.Error("there was room, and it was not taken")
	}
	slow.mu.Lock()
	slow.room = make(chan struct{})
	slow.mu.Unlock()
	go func() { taken <- s.pass("pumps", "too late", true) }()
	time.Sleep(20 * time.Millisecond)
	s.agent.end()
	if <-taken {
		t.Error("it was taken while the agent stops")
	}
	if st := s.agent.Status(); st.Rules.In != 2 || !st.Balance.Closes {
		t.Errorf("%+v %+v", st.Rules, st.Balance)
	}
}

// What makes an agent not start is told, with where and why.
func TestWhatKeepsAnAgentFromStartingIsTold(t *testing.T) {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	r := run(t, twoFiles)
	for _, c := range []struct{ plan, state, why string }{
		{twoFiles, "state", "another agent uses this state folder"},
		{strings.Replace(twoFiles, "rules: []", "rulse: []", 1), "other", "plan.yaml:6:1"},
		{twoFiles, "other", "another program listens on"},
	} {
		r.writePlan(c.plan)
		err := Run(context.Background(), Options{PlanFile: r.path("plan.yaml"), StateDir: r.path(c.state), Log: log, Ready: func() {}})
		if err == nil || !strings.Contains(err.Error(), c.why) {
			t.Errorf("%v, want %s", err, c.why)
		}
	}
	if err := Run(context.Background(), Options{PlanFile: r.path("none.yaml"), StateDir: r.path("other"), Log: log}); err == nil {
		t.Error("an agent runs without a plan")
	}
	r.stop()
}
