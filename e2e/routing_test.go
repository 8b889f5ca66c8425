package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const hunting = `oakbarrel: 1
host: tide-gw
conditions: {urgent: severity at least error}
intakes: {wire: {syslog: {udp: "127.0.0.1:0"}}}
rules:
  - {name: errors, when: condition urgent and app is pumpd, send: [errors]}
  - {name: two, when: severity at least error and not (severity at least alert) or severity at least notice, send: [errors]}
  - {name: none, when: app is ticketd, send: [errors]}
otherwise: {drop: true}
outlets: {errors: {file: {path: DIR/errors.log, format: '{severity} {text}', keep: forever}}}
`

func TestADetailWindow(t *testing.T) {
	h := newHost(t, hunting)
	h.start()
	say := func(text string) { h.send("udp", "<15>pumpd: "+text) }
	say("before")
	open := func(rule, to, span string) []string {
		return []string{"detail", "open", "--state", h.state, "--rule", rule, "--to", to, "--for", span}
	}
	expect(t, 1, "", `rule "two" has no detail window: its condition has more than one severity at least`, open("two", "debug", "1m")...)
	expect(t, 1, "", `its condition has no severity at least`, open("none", "debug", "1m")...)
	expect(t, 1, "", `the plan has no rule "other"`, open("other", "debug", "1m")...)
	expect(t, 1, "", `its threshold is error, and nothing is added by alert`, open("errors", "alert", "1m")...)
	expect(t, 2, "", "--to cannot be", open("errors", "loud", "1m")...)
	expect(t, 2, "", "--for is from 1s to 24h", open("errors", "debug", "25h")...)
	expect(t, 0, `rule "errors" takes severity at least debug, instead of error, until 20`, "", open("errors", "debug", "1h")...)
	say("while it is open")
	h.waitForLines("errors.log", 1)
	h.stop()
	h.start() // it is open still
	say("after a restart")
	h.waitForLines("errors.log", 2)
	expect(t, 0, `detail window: rule "errors" takes debug instead of error until`, "", "status", "--state", h.state)
	h.setPlan(hunting + "# changed")
	h.reload()
	say("after a reload")
	h.waitForLines("errors.log", 3)
	expect(t, 0, "", "", "detail", "close", "--state", h.state, "--rule", "errors")
	expect(t, 1, "no window open", "", "detail", "close", "--state", h.state, "--rule", "errors")
	say("after it is closed")

	expect(t, 0, "", "", open("errors", "debug", "1s")...)
	h.eventually("it goes back by itself", func() bool { return len(h.status().Details) == 0 })
	say("after its time")
	h.send("udp", "<11>pumpd: an error")
	if got := h.waitForLines("errors.log", 4); got[3] != "error an error" {
		t.Errorf("%q", got)
	}
	expect(t, 0, "", "", open("errors", "debug", "1h")...)
	h.setPlan(strings.Replace(hunting, "name: errors", "name: faults", 1))
	if st := h.reload(); len(st.Details) != 0 || st.Plan.Refused != nil {
		t.Errorf("a window of a rule that is gone: %+v", st.Details)
	}
	expect(t, 3, "", "no agent runs", "detail", "open", "--state", h.dir, "--rule", "errors")
}

func TestTheMatrixOfAPlan(t *testing.T) {
	h := newHost(t, hunting)
	out := expect(t, 0, "kern–local7", "", "plan", "matrix", h.plan)
	if !strings.Contains(out, "a?-?") || !strings.Contains(out, "a  errors") {
		t.Errorf("%s", out)
	}
	var m struct {
		Cells []struct {
			Facility, Severity, Nowhere string
			Surely, Maybe               []string
		}
	}
	if err := json.Unmarshal([]byte(expect(t, 0, "", "", "plan", "matrix", h.plan, "--output", "json")), &m); err != nil || len(m.Cells) != 192 {
		t.Fatal(len(m.Cells), err)
	}
	for _, c := range m.Cells {
		if c.Severity == "error" && (len(c.Surely) != 1 || c.Nowhere != "never") || c.Severity == "debug" && (len(c.Maybe) != 1 || c.Nowhere != "maybe") {
			t.Errorf("%+v", c)
		}
	}
	h.setPlan("oakbarrel: 2\n")
	expect(t, 1, "", "has errors; mend them first", "plan", "matrix", h.plan)
}

func TestPlansAreComparedOverTraffic(t *testing.T) {
	h := newHost(t, hunting)
	newPlan := filepath.Join(h.dir, "new.yaml")
	os.WriteFile(newPlan, []byte(strings.ReplaceAll(strings.Replace(hunting, "  - {name: none, when: app is ticketd", "  - {name: none, when: app is door-badge", 1), "DIR", h.dir)), 0o600)
	sample := filepath.Join(h.dir, "sample")
	var lines strings.Builder
	for i := range 60 {
		fmt.Fprintf(&lines, "<15>1 2026-11-25T10:%02d:00Z kelp-01 %s - - - line %d\n", i, []string{"ticketd", "door-badge", "pumpd"}[i%3], i)
	}
	os.WriteFile(sample, []byte(lines.String()), 0o600)
	out := expect(t, 1, "60 records of 59 min", "", "plan", "compare", h.plan, newPlan, "--sample", sample)
	for _, want := range []string{"as before            20\n", "kept no longer       20\n", "kept only now        20\n", "20 records: from errors to nowhere", "rules before: none; after: otherwise", "kelp-01 ticketd: line 0"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	expect(t, 0, "as before            60\n", "", "plan", "compare", h.plan, h.plan, "--sample", sample)
	var c struct {
		Records, Same, Moved int
		NoLongerKept         int `json:"no_longer_kept"`
		Outlets              []struct {
			Name        string
			OldBytesDay int64 `json:"old_bytes_a_day"`
		}
		Changes []struct {
			From, To []string
			Examples []json.RawMessage
		}
	}
	if err := json.Unmarshal([]byte(expect(t, 1, "", "", "plan", "compare", h.plan, newPlan, "--sample", sample, "--output", "json")), &c); err != nil {
		t.Fatal(err)
	}
	if c.Records != 60 || c.NoLongerKept != 20 || len(c.Changes) != 2 || len(c.Changes[0].To) != 0 || len(c.Changes[0].Examples) != 3 || c.Outlets[0].OldBytesDay < 5000 || c.Outlets[0].OldBytesDay > 10000 {
		t.Errorf("%+v", c)
	}
	expect(t, 2, "", "compare needs recorded traffic", "plan", "compare", h.plan, newPlan)
	expect(t, 3, "", "does not exist", "plan", "compare", h.plan, newPlan, "--sample", filepath.Join(h.dir, "nothing"))
}

func TestRepeatsAreFolded(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
host: reef-02
intakes: {wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}}}
rules:
  - {name: every one, when: app is every, send: [all]}
  - {name: folded, when: any, fold: 1s, send: [folded]}
otherwise: {drop: true}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
  folded: {file: {path: DIR/folded.log, format: '{severity} {text}', keep: forever}}
`)
	h.start()
	h.send("tcp", strings.Repeat("<13>pumpd: stall\n", 40)+"<11>pumpd: stall\n<13>once: x\n"+strings.Repeat("<13>every: y\n", 5))
	got := h.waitForLines("folded.log", 6)
	if strings.Join(got[:4], "|") != "notice stall|error stall|notice x|notice y" || !strings.HasPrefix(strings.Join(got, "|"), "notice stall|error stall|notice x|notice y|notice ") ||
		!strings.Contains(strings.Join(got[4:], "|"), "stall (said 40 times in 1s)") || !strings.Contains(strings.Join(got[4:], "|"), "y (said 5 times in 1s)") {
		t.Errorf("%q", got)
	}
	h.waitForLines("all.log", 5)
	if st := h.status(); st.Rules.Folded != 39 || st.Rules.Dropped != 39 {
		t.Errorf("%+v", st.Rules)
	}
	h.send("udp", "<13>pumpd: at the end", "<13>pumpd: at the end", "<13>pumpd: at the end")
	h.eventually("they are read", func() bool { return h.status().Intakes[0].Read >= 50 })
	h.stop()
	if got := h.waitForLines("folded.log", 8); got[7] != "notice at the end (said 3 times in 1s)" {
		t.Errorf("%q", got)
	}
}
