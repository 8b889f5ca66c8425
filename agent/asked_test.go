package agent

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/agent/control"
	"oakbarrel/agent/doctor"
	"oakbarrel/agent/watch"
	"oakbarrel/client"
)

const asked = `oakbarrel: 1
host: reef-02
intakes:
  local: {syslog: {socket: DIR/log.sock}}
  pumps: {files: {paths: [DIR/pumps.log]}}
rules: [{name: worst, when: severity at least error, send: [all]}]
otherwise: {drop: true}
outlets: {all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}}
tend: {kiosk: {paths: [DIR/kiosk.log], roll: {size: 1KiB}, keep: {pieces: 2}, how: copy}}
`

// A command on the host is answered by the agent that runs there.
func TestAnAgentIsAskedOnItsHost(t *testing.T) {
	r := run(t, asked)
	ctx, state := context.Background(), r.path("state")
	w := watch.Watcher{Mark: "trace-1", Start: time.Now()}
	var hops []string
	w.Tell = func(h client.Hop) { hops = append(hops, h.Hop) }
	if _, err := control.AskTrace(ctx, state, "trace-1"); err != nil {
		t.Fatal(err)
	}
	r.say("unixgram", r.path("log.sock"), "<11>pumpd: trace-1")
	if _, arrived, err := w.Watch(ctx, 5*time.Second, func() (client.Trace, error) { return control.AskTrace(ctx, state, "trace-1") }); err != nil || !arrived {
		t.Errorf("%v %v", arrived, err)
	}
	if got := strings.Join(hops, ", "); got != "taken in, rules, written" {
		t.Errorf("the hops are %s", got)
	}
	if d, err := control.OpenDetail(ctx, state, "worst", "info", time.Minute); err != nil || d.From != "error" || d.To != "info" {
		t.Errorf("%+v %v", d, err)
	}
	r.say("unixgram", r.path("log.sock"), "<14>pumpd: in detail")
	r.until("the window lets it through", func() bool { return r.times("all.log")["in detail"] == 1 })
	for _, c := range []struct{ rule, to, why string }{{"none", "info", "the plan has no rule"}, {"worst", "loud", "is not a severity"}, {"worst", "alert", "rule \"worst\" has no detail window"}} {
		var refused *control.Refused
		if _, err := control.OpenDetail(ctx, state, c.rule, c.to, time.Minute); !errors.As(err, &refused) || !strings.Contains(err.Error(), c.why) {
			t.Errorf("%+v: %v", c, err)
		}
	}
	if closed, err := control.CloseDetail(ctx, state, "worst"); err != nil || !closed {
		t.Errorf("%v %v", closed, err)
	}
	r.write("kiosk.log", "a line of the kiosk\n")
	for outlet, piece := range map[string]string{"all": "all-", "kiosk": "kiosk-"} {
		rolled, err := control.Roll(ctx, state, outlet)
		if err != nil || len(rolled) != 1 || !rolled[0].Rolled || !strings.Contains(rolled[0].Piece, piece) {
			t.Errorf("%s: %+v %v", outlet, rolled, err)
		}
	}
	if _, err := control.Roll(ctx, state, "none"); err == nil || !strings.Contains(err.Error(), "no outlet and no tend none") {
		t.Error(err)
	}
	r.write("pumps.log", "<11>pumpd: one\n")
	r.until("it is followed to its end", func() bool {
		files, err := control.AskFollowed(ctx, state)
		return err == nil && len(files) == 1 && files[0].Behind == 0 && files[0].Size > 0
	})
	if err := control.SetBack(ctx, state, r.path("pumps.log"), 0); err != nil {
		t.Error(err)
	}
	if err := control.SetBack(ctx, state, r.path("other.log"), 0); err == nil || !strings.Contains(err.Error(), "is not followed") {
		t.Error(err)
	}
	if boxes, err := control.AskContainers(ctx, state); err != nil || len(boxes) != 0 {
		t.Errorf("%v %v", boxes, err)
	}
	if all, err := control.Addresses(ctx, state); err != nil || len(all) != 1 || all[0] != "unix:"+r.path("log.sock") {
		t.Errorf("%q %v", all, err)
	}
	for _, c := range doctor.Diagnose(ctx, r.path("plan.yaml"), state) {
		if c.Verdict == doctor.VerdictWrong {
			t.Errorf("of a sound host the doctor says: %+v", c)
		}
	}
	r.stop()

	if _, err := control.AskStatus(ctx, state); !errors.Is(err, control.ErrNoAgent) {
		t.Error(err)
	}
	if files, running, err := control.Followed(ctx, state); err != nil || running || len(files) != 1 {
		t.Errorf("%+v %v %v", files, running, err)
	}
	if all, err := control.Addresses(ctx, state); err != nil || len(all) != 1 {
		t.Errorf("%q %v", all, err)
	}
	if got := control.Patterns(state); got != r.path("pumps.log") {
		t.Error(got)
	}
}

// A detail window is open again after a restart, and closes with its rule.
func TestADetailWindowSurvivesARestart(t *testing.T) {
	r := run(t, asked)
	if _, err := control.OpenDetail(context.Background(), r.path("state"), "worst", "debug", time.Hour); err != nil {
		t.Fatal(err)
	}
	r.stop()
	r.start()
	if d := r.status().Details; len(d) != 1 || d[0].To != "debug" {
		t.Errorf("%+v", d)
	}
	r.takePlan(strings.Replace(asked, "name: worst", "name: other", 1))
	if d := r.status().Details; len(d) != 0 {
		t.Errorf("the rule is gone, and the window is open: %+v", d)
	}
	r.stop()
}

// centre stands in for the service: it keeps what an agent tells, and gives it orders.
type centre struct {
	mu       sync.Mutex
	statuses []client.AgentStatus
	plans    []client.AgentPlan
	orders   []client.Order
	outcomes map[string]client.Outcome
}

func (c *centre) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	parts := strings.Split(strings.TrimPrefix(r.URL.Path, "/api/v1/agents/"), "/")
	w.Header().Set("Content-Type", "application/json")
	switch {
	case r.Method == "PUT" && len(parts) == 1:
		var s client.AgentStatus
		json.NewDecoder(r.Body).Decode(&s)
		c.statuses = append(c.statuses, s)
		json.NewEncoder(w).Encode(client.StatusTaken{WantsPlan: len(c.plans) == 0})
	case r.Method == "PUT" && parts[1] == "plan":
		var p client.AgentPlan
		json.NewDecoder(r.Body).Decode(&p)
		c.plans = append(c.plans, p)
		w.WriteHeader(http.StatusNoContent)
	case r.Method == "GET" && parts[1] == "orders":
		if len(c.orders) == 0 {
			c.mu.Unlock()
			time.Sleep(50 * time.Millisecond)
			c.mu.Lock()
		}
		json.NewEncoder(w).Encode(c.orders)
		c.orders = []client.Order{}
	case r.Method == "PUT" && parts[1] == "orders":
		var o client.Outcome
		json.NewDecoder(r.Body).Decode(&o)
		c.outcomes[parts[2]] = o
		w.WriteHeader(http.StatusNoContent)
	}
}

// An agent tells the service how it is and which plan it has, and does what it is
// ordered; an order about a file that is not its own is refused.
func TestAnAgentDoesWhatTheServiceOrders(t *testing.T) {
	c := &centre{orders: []client.Order{}, outcomes: map[string]client.Outcome{}}
	server := httptest.NewServer(c)
	defer server.Close()
	r := &running{t: t, dir: t.TempDir(), ended: make(chan error, 1), reload: make(chan os.Signal)}
	r.write("token", "seahorse\n")
	r.write("secret", "nobody reads this from afar\n")
	r.writePlan(asked + `service: {url: "` + server.URL + `", token_file: DIR/token}
`)
	r.start()
	r.say("unixgram", r.path("log.sock"), "<11>pumpd: a stall")
	r.until("it is written", func() bool { return r.times("all.log")["a stall"] == 1 })
	live := filepath.Join(r.dir, "all.log")
	orders := []client.NewOrder{
		{Kind: client.TestRecord}, {Kind: client.DetailOpen, Rule: "worst", To: "info", Seconds: 60}, {Kind: client.DetailClose, Rule: "worst"}, {Kind: client.DetailClose, Rule: "worst"},
		{Kind: client.LastLines, Path: live}, {Kind: client.RollFiles, Outlet: "all"}, {Kind: client.TellPieces, Path: live}, {Kind: client.VerifySet, Path: live},
		{Kind: client.LastLines, Path: r.path("secret")}, {Kind: client.RollFiles, Outlet: "none"}, {Kind: "dance"},
	}
	c.mu.Lock()
	for i, o := range orders {
		c.orders = append(c.orders, client.Order{ID: uint64(i + 1), NewOrder: o, By: "noor"})
	}
	c.mu.Unlock()
	r.until("all orders are done", func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return len(c.outcomes) == len(orders) && len(c.statuses) > 0 && len(c.plans) == 1
	})
	r.stop()
	want := []string{`"text":"test record 1, ordered by noor"`, `rule worst takes info instead of error`, `the window of rule worst is closed`, `has no window open`,
		`"a stall"`, `"rolled":true`, `"name":"all-`, `"ok":true`, `no rolled set of that path`, `no outlet and no tend`, `does not know such an order`}
	for i, text := range want {
		if b, _ := json.Marshal(c.outcomes[strconv.Itoa(i+1)]); !strings.Contains(string(b), text) {
			t.Errorf("order %d: %s, want %s", i+1, b, text)
		}
	}
	if c.statuses[0].Host != "reef-02" || c.plans[0].Hash != c.statuses[0].PlanHash || !strings.Contains(c.plans[0].Text, "name: worst") {
		t.Errorf("told %+v and %+v", c.statuses[0], c.plans[0])
	}
}
