package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// fleet is hosts whose plans the service serves.
type fleet struct {
	*store
	t     *testing.T
	admin string
	hosts []*host
	ports []string
}

const (
	groundPart = `oakbarrel: 1
outlets:
  centre:
    store: {cask: gateway}
    batch: {wait: 50ms}
otherwise: {send: [centre]}
`
	gatePlan = `oakbarrel: 1
parts: [ground]
intakes:
  wire: {syslog: {tcp: "127.0.0.1:@{port}", udp: "127.0.0.1:@{port}"}}
rules: []
`
	fleetBounds = `read: [/var/log]
write: [STATE]
ports: ["0-65535"]
`
)

// newFleet starts hosts that wait for a plan, labelled gates, with the ports that they
// are to listen on as values, and assigns the plan gate to them.
func newFleet(t *testing.T, n int) *fleet {
	t.Helper()
	f := &fleet{store: newStore(t), t: t}
	f.admin = f.token("*", "admin")
	for i := range n {
		f.add(fmt.Sprintf("gate-%02d", i+1))
	}
	f.put("ground", groundPart)
	f.put("gate", gatePlan)
	f.do(0, "gates", "assign", "gates", "--plan", "gate", "--when", "role is gate")
	return f
}

func (f *fleet) add(name string) *host {
	f.t.Helper()
	h := newHost(f.t, fmt.Sprintf("oakbarrel: 1\nplan: served\nhost: %s\nservice: {url: %q, token_file: DIR/token}\n", name, f.url()))
	os.WriteFile(filepath.Join(h.dir, "token"), []byte(f.token("gateway", "write")+"\n"), 0o600)
	h.bounds(fleetBounds)
	h.start()
	h.eventually("the service hears of "+name, func() bool {
		out, _, _ := f.ask(f.admin, "hosts", "--output", "json")
		return strings.Contains(out, name)
	})
	port := freeAddress(f.t)
	port = port[strings.LastIndex(port, ":")+1:]
	f.do(0, "role=gate", "hosts", "label", name, "role=gate", "--value", "port="+port)
	f.hosts, f.ports = append(f.hosts, h), append(f.ports, port)
	return h
}

// bounds gives a host bounds, in which STATE is its state folder.
func (h *host) bounds(text string) {
	h.t.Helper()
	file := filepath.Join(h.dir, "bounds.yaml")
	if err := os.WriteFile(file, []byte(strings.ReplaceAll(text, "STATE", h.state)), 0o644); err != nil {
		h.t.Fatal(err)
	}
	h.options = []string{"--bounds", file}
}

// do runs a command as an admin, and expects an exit code and a text of it.
func (f *fleet) do(code int, want string, args ...string) string {
	f.t.Helper()
	out, stderr, got := f.ask(f.admin, args...)
	if got != code || !strings.Contains(out+stderr, want) {
		f.t.Fatalf("%v: exit code %d, want %d; want %q in:\n%s%s", args, got, code, want, out, stderr)
	}
	return out
}

// put makes a new revision.
func (f *fleet) put(name, text string) {
	f.t.Helper()
	file := filepath.Join(f.dir, name+".yaml")
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		f.t.Fatal(err)
	}
	f.do(0, "has revision", "plans", "put", name, file, "--why", "the tests want it")
}

// rollOut rolls the last revision out, and expects how it ends.
func (f *fleet) rollOut(code int, want string, options ...string) {
	f.t.Helper()
	f.do(code, want, append([]string{"rollout", "start", "gate", "--wait", "1s", "--why", "the tests want it", "--watch"}, options...)...)
}

func (f *fleet) all() (hosts []client.FleetHost) {
	f.t.Helper()
	for _, h := range f.hosts {
		out := f.do(0, "", "hosts", "show", h.status().AgentID, "--output", "json")
		var one client.FleetHost
		if err := json.Unmarshal([]byte(out), &one); err != nil {
			f.t.Fatal(err)
		}
		hosts = append(hosts, one)
	}
	return hosts
}

// have waits until all hosts have a revision for good, and the page says so.
func (f *fleet) have(revision int) {
	f.t.Helper()
	for _, h := range f.hosts {
		h.eventually(fmt.Sprintf("it has revision %d", revision), func() bool {
			s := h.status().Plan.Served
			return s.Revision == revision && s.State != client.Judged
		})
		h.eventually("the service knows it", func() bool {
			var one client.FleetHost
			json.Unmarshal([]byte(f.do(0, "", "hosts", "show", h.status().AgentID, "--output", "json")), &one)
			return one.Revision == revision && one.State != client.Judged
		})
	}
}

func (f *fleet) lastRollout() (r client.Rollout) {
	f.t.Helper()
	var all []client.Rollout
	if err := json.Unmarshal([]byte(f.do(0, "", "rollout", "list", "--output", "json")), &all); err != nil || len(all) == 0 {
		f.t.Fatal(err)
	}
	return all[0]
}

// talk sends a line each 50 ms to a port of this machine, until the function that it
// returns is called, which tells how many were sent.
func talk(t *testing.T, port string) (stop func() int) {
	end, sent := make(chan struct{}), 0
	var group sync.WaitGroup
	conn, err := net.Dial("udp", "127.0.0.1:"+port)
	if err != nil {
		t.Fatal(err)
	}
	group.Go(func() {
		defer conn.Close()
		for tick := time.NewTicker(50 * time.Millisecond); ; {
			select {
			case <-end:
				return
			case <-tick.C:
				if _, err := fmt.Fprintf(conn, "<13>pumpd: number %d", sent); err == nil {
					sent++
				}
			}
		}
	})
	return func() int { close(end); group.Wait(); return sent }
}

// A revision comes to its hosts in waves, with the values of each; another part is
// another revision; what a host sends arrives all the while.
func TestARevisionComesToItsHosts(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 3)
	f.rollOut(0, "done  3 kept", "--waves", "1, all")
	f.have(1)
	for i, h := range f.hosts {
		if got := h.address("udp"); got != "127.0.0.1:"+f.ports[i] {
			t.Errorf("host %d listens on %s, and its port is %s", i, got, f.ports[i])
		}
	}
	for _, h := range f.all() {
		if h.Drift != "" || h.Assigned != "gate" || h.Why != "gates is met: role is gate" {
			t.Errorf("%+v", h)
		}
	}
	stop := talk(t, f.ports[0])
	f.put("ground", strings.Replace(groundPart, "otherwise", "values: {}\nconditions: {urgent: severity at least error}\notherwise", 1))
	for _, h := range f.all() {
		if h.Drift != "" {
			t.Errorf("what is not rolled out is no drift: %s", h.Drift)
		}
	}
	time.Sleep(2 * time.Second)
	f.rollOut(0, "done  3 kept")
	f.have(2)
	sent := stop()
	f.hosts[0].eventually("all that was sent arrives", func() bool {
		out, _, _ := f.ask(f.token("gateway", "read"), "count", "--where", `app is pumpd`, "--since", "1h", "--output", "json")
		return strings.Contains(out, fmt.Sprintf(`"total":%d`, sent))
	})
	if h := f.add("gate-09"); true { // one that comes later gets it by itself
		h.eventually("it gets the plan", func() bool { return h.status().Plan.Served.Revision == 2 })
	}
	f.do(0, "start rollout", "audit", "--limit", "100")
}

// A plan that is in order and starves a host is taken back within its wait, by the host
// itself, with the service away; the others never see it.
func TestAPlanThatStarvesAHostIsTakenBack(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 3)
	f.rollOut(0, "done")
	f.have(1)
	var stops []func() int
	for _, port := range f.ports {
		stops = append(stops, talk(t, port))
	}
	time.Sleep(4 * time.Second) // so that the host knows what comes
	f.put("gate", strings.ReplaceAll(gatePlan, "127.0.0.1:@{port}", "127.0.0.1:0"))
	f.rollOut(1, "records in the time before, and none in the second half", "--waves", "1, all", "--wait", "3s")
	f.have(1)
	r := f.lastRollout()
	if r.State != client.RolloutTakenBack || r.Counts["failed"] != 1 || r.Counts["waiting"] != 2 {
		t.Errorf("%+v", r)
	}
	f.do(0, "is running", "rollout", "start", "gate", "--wait", "3s", "--waves", "all", "--why", "once more, with the service away")
	f.hosts[0].eventually("a host has it", func() bool { return f.hosts[0].status().Plan.Served.Revision == 2 })
	f.kill()
	for _, h := range f.hosts {
		h.eventually("it goes back by itself", func() bool {
			s := h.status().Plan.Served
			return s.Revision == 1 && s.State == client.TakenBack && strings.Contains(s.Why, "none in the second half")
		})
	}
	f.store.start()
	f.hosts[0].eventually("the roll-out is taken back", func() bool { return f.lastRollout().State == client.RolloutTakenBack })
	for _, stop := range stops {
		stop()
	}
}

// A file that is followed no more, as the path is another, is missed, also where its last
// lines are read while the plan is changed.
func TestAFileThatIsFollowedNoMoreIsMissed(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 1)
	h := f.hosts[0]
	h.bounds(strings.Replace(fleetBounds, "/var/log", h.dir, 1))
	h.stop()
	h.start()
	f.do(0, "", "hosts", "label", "gate-01", "--value", "folder="+h.dir)
	follow := "oakbarrel: 1\nparts: [ground]\nintakes:\n  screen: {files: {paths: ['@{folder}/screen.log']}}\n"
	f.put("gate", follow)
	f.rollOut(0, "done")
	f.have(2)
	end, ended, written := make(chan struct{}), make(chan struct{}), 0
	go func() {
		defer close(ended)
		for tick := time.NewTicker(20 * time.Millisecond); ; {
			select {
			case <-end:
				return
			case <-tick.C:
				file, err := os.OpenFile(filepath.Join(h.dir, "screen.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
				if err == nil {
					fmt.Fprintln(file, "a ticket is sold")
					written++
					file.Close()
				}
			}
		}
	}()
	time.Sleep(2 * time.Second)
	f.put("gate", strings.Replace(follow, "screen.log", "screen.txt", 1))
	f.rollOut(1, "intake screen had ", "--wait", "6s")
	f.have(2)
	close(end)
	<-ended
	h.eventually("each line is there once", func() bool {
		out, _, _ := f.ask(f.token("gateway", "read"), "count", "--since", "1h", "--output", "json")
		return strings.Contains(out, fmt.Sprintf(`"total":%d,`, written))
	})
}

// A service that is killed in the middle of a wave goes on; an agent that is killed
// between taking and keeping ends with exactly one of the two plans.
func TestKillsInTheMiddleOfARollout(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 3)
	f.rollOut(0, "done")
	f.have(1)
	f.put("gate", gatePlan+"values: {note: two}\n")
	f.do(0, "running", "rollout", "start", "gate", "--wait", "3s", "--waves", "1, all", "--why", "kill the service")
	for range 3 {
		time.Sleep(time.Second)
		f.kill()
		f.store.start()
	}
	f.have(2)
	f.hosts[0].eventually("it is done", func() bool { return f.lastRollout().State == client.RolloutDone })

	f.put("gate", gatePlan+"values: {note: three}\n")
	f.do(0, "running", "rollout", "start", "gate", "--wait", "3s", "--waves", "all", "--failures", "3", "--why", "kill an agent")
	h := f.hosts[1]
	h.eventually("it judges the plan", func() bool { return h.status().Plan.Served.State == client.Judged })
	h.kill()
	h.start()
	if s := h.status().Plan.Served; s.Revision != 2 || s.State != client.TakenBack || s.TriedAt != 3 {
		t.Errorf("%+v", s)
	}
	h.eventually("the roll-out is done", func() bool { return f.lastRollout().State == client.RolloutDone })
	if r := f.lastRollout(); r.Counts["kept"] != 2 || r.Counts["failed"] != 1 {
		t.Errorf("%+v", r)
	}
	out := f.do(0, "it has revision 2 of plan gate: the agent ended before the plan was kept", "hosts", "show", h.status().AgentID)
	if !strings.Contains(out, "drift") {
		t.Error(out)
	}
}

// What a host's bounds forbid is refused there, with place and reason.
func TestAPlanOutsideOfItsBoundsIsRefused(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 1)
	f.put("ground", strings.Replace(groundPart, "  centre:\n", "  aside: {file: {path: /etc/cron.d/x, keep: forever}}\n  centre:\n", 1))
	f.do(0, "in order on 1 of 1 hosts", "plans", "check", "gate")
	f.do(1, "gate-01: ground.yaml:3:3: the bounds of this host forbid that outlet aside writes /etc/cron.d/x", "plans", "check", "gate", "--ask")
	f.rollOut(1, "ground.yaml:3:3: the bounds of this host forbid that outlet aside writes /etc/cron.d/x; its owner can allow it under write in ")
	if s := f.hosts[0].status().Plan.Served; s.Plan != "" || s.State != client.NoPlan {
		t.Errorf("%+v", s)
	}
	if _, err := os.Stat("/etc/cron.d/x"); err == nil {
		t.Error("the file is there")
	}
}

// Every file in the folder of an agent that has run is kept from plans of the service,
// but the logs that such a plan writes there.
func TestAServedPlanLeavesTheAgentsFilesAlone(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 1)
	h := f.hosts[0]
	f.put("ground", strings.Replace(groundPart, "  centre:\n", "  aside: {file: {path: "+h.state+"/aside.log, keep: forever}}\n  centre:\n", 1))
	f.rollOut(0, "")
	entries, err := os.ReadDir(h.state)
	if err != nil || len(entries) < 8 {
		t.Fatal(entries, err)
	}
	b, _, err := plan.LoadBounds(filepath.Join(h.dir, "bounds.yaml"), h.state)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		served := fmt.Sprintf("oakbarrel: 1\noutlets: {aside: {file: {path: %s/%s, keep: forever}}}\notherwise: {drop: true}\n", h.state, e.Name())
		p, findings := plan.ParseServed("gate.yaml", []byte(served), []byte("oakbarrel: 1\nplan: served\n"), b)
		if free := strings.HasPrefix(e.Name(), "aside.log"); (p != nil) != free {
			t.Errorf("%s: %v", e.Name(), findings)
		}
	}
}

// A host that is asked tells which port others have, and takes nothing.
func TestHostsAreAskedForTheirPorts(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 2)
	taken, err := net.Listen("tcp", "127.0.0.1:"+f.ports[1])
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	f.do(1, "gate-02: intake wire: ", "plans", "check", "gate", "--ask")
	f.do(1, "in order on 1 of 2 hosts", "plans", "check", "gate", "--ask")
	for _, h := range f.hosts {
		if s := h.status().Plan.Served; s.Plan != "" {
			t.Errorf("it was only asked: %+v", s)
		}
	}
}

// Two people who change one plan at a time are told of each other, and a roll-out waits
// for another person where that is wanted.
func TestTwoOperatorsAtOnce(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 1)
	file := filepath.Join(f.dir, "gate.yaml")
	os.WriteFile(file, []byte(gatePlan+"values: {note: x}\n"), 0o644)
	f.do(0, "revision 2", "plans", "put", "gate", file, "--why", "mine", "--base", "1")
	os.WriteFile(file, []byte(gatePlan+"values: {note: y}\n"), 0o644)
	f.do(1, "plan gate is at revision 2, by a token (mine), and the change was made from revision 1", "plans", "put", "gate", file, "--why", "yours", "--base", "1")
	f.do(0, "by another", "assign", "gates", "--plan", "gate", "--when", "role is gate", "--approve")
	f.do(0, "is proposed", "rollout", "start", "gate", "--wait", "1s", "--why", "x")
	f.do(1, "roll-out 1 of plan gate is proposed", "rollout", "start", "gate", "--wait", "1s", "--why", "y")
	f.do(1, "cannot approve it", "rollout", "go-on", "1")
	f.account("noor", "operator")
	f.do(0, "is running", "rollout", "go-on", "1", "--account", "noor", "--password-file", filepath.Join(f.dir, "password"))
	f.have(2)
	f.do(0, "go-on rollout", "audit", "--limit", "100")
}

// Plans live in a folder as well, and what somebody else changed meanwhile is not overwritten.
func TestPlansInAFolder(t *testing.T) {
	f := newFleet(t, 1)
	dir := filepath.Join(f.dir, "fleet")
	f.do(0, "gate.yaml is revision 1", "plans", "pull", dir)
	f.do(0, "", "plans", "check", dir)
	change := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, "gate.yaml"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	change(gatePlan + "values: {note: x}\n")
	f.do(0, "revision 2", "plans", "push", dir, "--why", "a note")
	f.do(0, "nothing was changed", "plans", "push", dir, "--why", "again")
	f.put("gate", gatePlan+"values: {note: of another}\n")
	change(gatePlan + "values: {note: mine}\n")
	f.do(1, "+values: {note: mine}", "plans", "push", dir, "--why", "mine")
	f.do(1, "made revision 3", "plans", "pull", dir)
	change(strings.Replace(gatePlan, "udp:", "utp:", 1))
	f.do(1, `gate.yaml:4:45: on gate-01: syslog has no key "utp"; did you mean udp?`, "plans", "check", dir)
}
