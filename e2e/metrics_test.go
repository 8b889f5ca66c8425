package e2e

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// figures returns what is told at an address, "" where nothing is.
func figures(address string) string {
	answer, err := http.Get("http://" + address + "/metrics")
	if err != nil {
		return ""
	}
	defer answer.Body.Close()
	body, _ := io.ReadAll(answer.Body)
	return string(body)
}

// promtool has the program of the figures' readers look at something.
func promtool(t *testing.T, stdin string, args ...string) {
	t.Helper()
	c := exec.Command("../bin/promtool", args...) // make setup puts it there
	c.Stdin = strings.NewReader(stdin)
	if out, err := c.CombinedOutput(); err != nil || strings.Contains(string(out), "error") {
		t.Errorf("promtool %v: %v\n%s", args, err, out)
	}
}

func TestTheAlertsCanBeRead(t *testing.T) { promtool(t, "", "check", "rules", "../docs/alerts.yaml") }

const measured = `oakbarrel: 1
host: reef-02
metrics: {listen: %q}
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
rules: [{name: pumps, when: app is pumpd, send: [all]}]
outlets: {all: {file: {path: DIR/all.log, roll: {size: 1KiB}, keep: {pieces: 2}}}}
otherwise: {drop: true}
`

// An agent serves its figures where its plan says, and each plan can move them; counters
// go on. A plan whose port is taken is not taken, and the figures stay where they are.
func TestAnAgentTellsItsFigures(t *testing.T) {
	t.Parallel()
	first, second := freeAddress(t), freeAddress(t)
	h := newHost(t, fmt.Sprintf(measured, first))
	h.start()
	send := func(n int) {
		t.Helper()
		for range n {
			h.send("tcp", "<14>pumpd: pressure is low\n", "<14>ticketd: a ticket\n")
		}
	}
	counted := func(address, figure string) {
		t.Helper()
		h.eventually("figures tell "+figure, func() bool { return strings.Contains(figures(address), "\n"+figure+"\n") })
	}
	send(40)
	for _, figure := range []string{
		`oakbarrel_intake_records_total{fate="passed",intake="wire",kind="syslog"} 80`,
		`oakbarrel_rules_records_total{fate="dropped"} 40`,
		`oakbarrel_rule_records_total{rule="pumps"} 40`,
		`oakbarrel_otherwise_records_total 40`,
		`oakbarrel_outlet_records_total{fate="out",kind="file",outlet="all"} 40`,
		`oakbarrel_balance_difference_records 0`,
	} {
		counted(first, figure)
	}
	h.eventually("a roll is told", func() bool {
		return !strings.Contains(figures(first), "\noakbarrel_outlet_rolls_total{kind=\"file\",outlet=\"all\"} 0\n")
	})
	promtool(t, figures(first), "check", "metrics")

	h.setPlan(fmt.Sprintf(measured, second))
	h.process.Process.Signal(syscall.SIGHUP)
	counted(second, `oakbarrel_rule_records_total{rule="pumps"} 40`)
	if figures(first) != "" {
		t.Error("the figures are still served where the plan before said")
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	h.setPlan(fmt.Sprintf(measured, taken.Addr()))
	h.process.Process.Signal(syscall.SIGHUP)
	counted(second, "oakbarrel_plan_refused 1")
	send(2)
	counted(second, `oakbarrel_rule_records_total{rule="pumps"} 42`)
	if r := h.status().Plan.Refused; r == nil || !strings.Contains(r.Why, "metrics: "+taken.Addr().String()+" cannot be listened on") {
		t.Errorf("%+v", r)
	}
}

// Started by hand an agent does not start where the port of its figures is taken; under a
// service manager it does, tells it, and serves them once the port is free.
func TestFiguresWhosePortIsTaken(t *testing.T) {
	t.Parallel()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	h := newHost(t, fmt.Sprintf(measured, taken.Addr()))
	expect(t, 1, "", "metrics: "+taken.Addr().String()+" cannot be listened on", "agent", "--plan", h.plan, "--state", h.state)
	h.manager = newUnitManager(t)
	h.start()
	h.manager.hears(h, "metrics: "+taken.Addr().String()+" cannot be listened on")
	if m := h.status().Metrics; m == nil || m.Trouble == "" {
		t.Errorf("%+v", m)
	}
	taken.Close()
	h.within(20*time.Second, "the figures are served", func() bool { return figures(taken.Addr().String()) != "" })
	if m := h.status().Metrics; m == nil || m.Trouble != "" {
		t.Errorf("%+v", m)
	}
}

// A store tells its figures, and that its database is away; agents go on meanwhile.
func TestAStoreTellsItsFigures(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.kill()
	address := freeAddress(t)
	s.options = []string{"--metrics", address}
	s.start()
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.send("tcp", "<14>pumpd: one\n", "<14>pumpd: two\n")
	h.waitUntilDelivered(2)
	s.ask(s.token("*", "read"), "casks")
	h.within(45*time.Second, "the store counts two records", func() bool {
		told := figures(address)
		for _, want := range []string{
			`oakbarrel_store_feed_records_total{cask="gateway",fate="came"} 2`,
			`oakbarrel_store_cask_records{cask="gateway"} 2`,
			`oakbarrel_store_batches_total{fate="taken"} `,
			`oakbarrel_store_requests_total{address="/api/v1/casks",method="GET",status="2xx"} `,
			`oakbarrel_store_request_seconds_count{address="/api/v1/feeds/:agent/:outlet",method="POST"} `,
			`oakbarrel_store_hosts 1`, `oakbarrel_store_database_up 1`,
		} {
			if !strings.Contains(told, "\n"+want) {
				return false
			}
		}
		return true
	})
	promtool(t, figures(address), "check", "metrics")
	if figures(s.address) == "" || strings.Contains(figures(s.address), "oakbarrel_store") {
		t.Error("the figures are served where requests are answered")
	}
	s.db.Stop()
	h.within(45*time.Second, "the store tells that its database is away", func() bool { return strings.Contains(figures(address), "\noakbarrel_store_database_up 0\n") })
}
