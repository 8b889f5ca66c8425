package e2e

import (
	"strings"
	"testing"
)

const pausePlan = `oakbarrel: 1
host: reef-02
intakes: {local: {syslog: {socket: DIR/log.sock}}}
rules: [{name: faults, when: severity at least error, send: [faults], then: done}]
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
  faults: {file: {path: DIR/faults.log, format: '{text}', keep: forever}}
`

// An outlet that is paused holds what comes, or sheds it where that is asked for; a rule is
// as if it were not there. All go on by themselves, and stay paused through a restart.
func TestOutletsAndRulesArePaused(t *testing.T) {
	h := newHost(t, pausePlan)
	h.start()
	say := func(priority, text string) {
		t.Helper()
		expect(t, 0, "", "", "send", "--to", "unix:"+h.dir+"/log.sock", "--priority", priority, text)
	}
	expect(t, 0, "outlet all is paused until", "", "pause", "all", "--for", "1h", "--state", h.state)
	say("user.info", "one")
	h.eventually("it is held", func() bool { return h.status().Outlets[0].Held == 1 })
	say("user.error", "a fault")
	h.waitForLines("faults.log", 1)
	if got := h.lines("all.log"); len(got) != 0 {
		t.Errorf("a paused outlet has written %q", got)
	}
	if s := h.status(); len(s.Pauses) != 1 || s.Pauses[0].Outlet != "all" || !s.Balance.Closes {
		t.Errorf("%+v", s.Pauses)
	}
	expect(t, 0, "PAUSED   outlet all until", "", "status", "--state", h.state)
	h.stop() // what is held is written down
	h.start()
	say("user.info", "two")
	h.eventually("it is held again", func() bool { return h.status().Outlets[0].Held == 1 })
	expect(t, 0, "outlet all goes on", "", "resume", "all", "--state", h.state)
	if got := h.waitForLines("all.log", 2); strings.Join(got, " ") != "one two" {
		t.Errorf("behind the pause there is %q", got)
	}
	expect(t, 1, "outlet all is not paused", "", "resume", "all", "--state", h.state)

	expect(t, 0, "sheds what comes", "", "pause", "all", "--drop", "--for", "1h", "--state", h.state)
	say("user.info", "three")
	h.eventually("it is shed", func() bool { o := h.status().Outlets[0]; return o.Shed == 1 && h.status().Balance.Closes })
	expect(t, 0, "", "", "resume", "all", "--state", h.state)

	expect(t, 0, `rule "faults" is paused`, "", "pause", "--rule", "faults", "--for", "2s", "--state", h.state)
	say("user.error", "four")
	if got := h.waitForLines("all.log", 3); got[2] != "four" {
		t.Errorf("past a rule that is paused: %q", got)
	}
	h.eventually("it goes on by itself", func() bool { return len(h.status().Pauses) == 0 })
	say("user.error", "five")
	h.waitForLines("faults.log", 2)

	expect(t, 1, "", `the plan has no outlet "al"`, "pause", "al", "--state", h.state)
	expect(t, 1, "", `the plan has no rule "x"`, "pause", "--rule", "x", "--state", h.state)
	expect(t, 2, "", "name an outlet, or a rule", "pause", "--state", h.state)
	expect(t, 2, "", "--drop is for outlets", "pause", "--rule", "faults", "--drop", "--state", h.state)
	h.setPlan(strings.ReplaceAll(pausePlan, "all", "rest"))
	expect(t, 0, "", "", "pause", "all", "--state", h.state)
	if s := h.reload(); len(s.Pauses) != 0 {
		t.Errorf("a pause of what the plan does not have any more: %+v", s.Pauses)
	}
}

// What a paused outlet with a spool holds goes out once it goes on.
func TestAStoreOutletIsPaused(t *testing.T) {
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.sendNumbers(1, 10)
	h.allDelivered()
	expect(t, 0, "holds what comes", "", "pause", "centre", "--for", "1h", "--state", h.state)
	h.sendNumbers(11, 30)
	h.eventually("it is held", func() bool { return h.status().Outlets[0].Held == 20 })
	h.stop()
	h.start()
	h.eventually("it is held still", func() bool { o := h.status().Outlets[0]; return o.Held == 20 && o.Out == 0 })
	expect(t, 0, "", "", "resume", "centre", "--state", h.state)
	h.allDelivered()
	if twice := s.hasEach(1, 30); twice != 0 {
		t.Errorf("%d are there twice", twice)
	}
}
