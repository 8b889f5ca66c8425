package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// journalCommand stands in for the command that reads the system's journal, on machines
// that have none: it has the entries of a file, a line "NUMBER UNIT PRIORITY TEXT" each, and
// tells those after a cursor, and on and on what is added.
const journalCommand = `#!/usr/bin/env python3
import os, re, sys, time
after, parent = 0, os.getppid()
for a in sys.argv[1:]:
    m = re.match("--(after-)?cursor=.*i=([0-9a-f]+)", a)
    if m:
        after = int(m.group(2), 16) - (0 if m.group(1) else 1)
assert "--output=export" in sys.argv and "--follow" in sys.argv
open("DIR/asked", "a").write(" ".join(sys.argv[1:]) + "\n")
with open("DIR/entries") as f:
    while True:
        line = f.readline()
        if not line:
            if os.getppid() != parent:  # as the real one ends when nobody reads
                sys.exit()
            time.sleep(0.05)
            continue
        number, unit, priority, text = line.rstrip("\n").split(" ", 3)
        if text == "a hint":
            print("Hint: not all is seen", file=sys.stderr, flush=True)
            continue
        if text == "the end of the command":
            sys.exit("the journal is broken")
        if int(number) > after:
            print("__CURSOR=s=aa;i=%x;b=bb\n__REALTIME_TIMESTAMP=1795601700000000\nPRIORITY=%s\nSYSLOG_IDENTIFIER=app\n_SYSTEMD_UNIT=%s\nMESSAGE=%s\n" % (int(number), priority, unit, text), flush=True)
`

// withJournal gives a host a journal.
func withJournal(h *host) {
	h.t.Helper()
	h.path = filepath.Join(h.dir, "bin")
	os.Mkdir(h.path, 0o755)
	if err := os.WriteFile(filepath.Join(h.path, "journalctl"), []byte(strings.ReplaceAll(journalCommand, "DIR", h.dir)), 0o755); err != nil {
		h.t.Fatal(err)
	}
	h.journal(1, 0, "", "")
}

// journal adds entries with numbers from first to last.
func (h *host) journal(first, last int, unit, text string) {
	h.t.Helper()
	f, err := os.OpenFile(filepath.Join(h.dir, "entries"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		h.t.Fatal(err)
	}
	defer f.Close()
	var b strings.Builder
	for n := first; n <= last; n++ {
		fmt.Fprintf(&b, "%d %s %d %s %d.\n", n, unit, n%8, text, n)
	}
	if _, err := f.WriteString(b.String()); err != nil {
		h.t.Fatal(err)
	}
}

const journalPlan = `oakbarrel: 1
host: tide-gw
intakes:
  system: {journal: {%s}}
outlets:
  all: {file: {path: DIR/all.log, format: '{text} {unit}', keep: forever}}
otherwise: {send: [all]}
`

// Each entry of the journal is kept once, whenever the agent is killed, and one that was
// removed before it could be read is counted.
func TestTheJournalIsReadOnce(t *testing.T) {
	h := newHost(t, strings.Replace(fmt.Sprintf(journalPlan, ""), "{unit}", "{field journal@32473.unit}", 1))
	withJournal(h)
	h.journal(1, 2000, "pumpd.service", "entry")
	h.start()
	h.eventually("something is read", func() bool { return len(h.lines("all.log")) > 0 })
	for i := range 8 {
		h.kill()
		h.journal(2001+i*500, 2500+i*500, "pumpd.service", "entry")
		h.start()
		time.Sleep(time.Duration(i) * 40 * time.Millisecond)
	}
	lines := h.waitForLines("all.log", 6000)
	for n, line := range lines {
		if want := fmt.Sprintf("entry %d. pumpd.service", n+1); line != want {
			t.Fatalf("line %d is %q, want %q", n+1, line, want)
		}
	}
	h.journal(6101, 6110, "pumpd.service", "entry") // a hundred are gone
	h.waitForLines("all.log", 6010)
	s := h.status()
	if in := s.Intakes[0]; in.Missed != 100 || in.Addresses[0] != "journal:system" {
		t.Errorf("%+v", in)
	}
	if f := s.Followed[0]; f.Path != "journal:system" || f.Read != 6110 || f.BehindSeconds != 0 {
		t.Errorf("%+v", f)
	}
	h.stop()
	h.journal(6111, 6111, "pumpd.service", "entry")
	h.start()
	h.waitForLines("all.log", 6011)
	if in := h.status().Intakes[0]; in.Missed != 0 {
		t.Errorf("what was told is told again: %+v", in)
	}
}

// The plan chooses what is taken, and where it begins; another outlet begins where it came.
func TestWhatIsTakenOfTheJournal(t *testing.T) {
	h := newHost(t, strings.Replace(fmt.Sprintf(journalPlan, "units: ['pump*'], priority: warning, since: 7d"), " {unit}", "", 1))
	withJournal(h)
	h.journal(1, 16, "pumpd.service", "pump")
	h.journal(17, 32, "ticketd.service", "ticket")
	h.start()
	lines := h.waitForLines("all.log", 10) // of each eight the five that are at least warnings
	for _, line := range lines {
		if !strings.HasPrefix(line, "pump ") {
			t.Error(line)
		}
	}
	asked, _ := os.ReadFile(filepath.Join(h.dir, "asked"))
	if !strings.Contains(string(asked), "--since=@") {
		t.Error(string(asked))
	}
	plan, _ := os.ReadFile(h.plan)
	h.setPlan(strings.Replace(string(plan), "outlets:\n", "outlets:\n  more: {file: {path: DIR/more.log, format: '{text}', keep: forever}}\n", 1) + "rules: [{when: any, send: [all, more]}]\n")
	h.reload()
	h.journal(33, 40, "pumpd.service", "pump")
	h.waitForLines("all.log", 15)
	if more := h.waitForLines("more.log", 5); len(more) != 5 {
		t.Errorf("it has %d", len(more))
	}
}

// A command that fails is told, and begun again where the outlets are.
func TestAJournalThatCannotBeRead(t *testing.T) {
	t.Parallel()
	h := newHost(t, strings.Replace(fmt.Sprintf(journalPlan, ""), " {unit}", "", 1))
	withJournal(h)
	h.journal(1, 5, "pumpd.service", "entry")
	h.start()
	h.waitForLines("all.log", 5)
	f, _ := os.OpenFile(filepath.Join(h.dir, "entries"), os.O_APPEND|os.O_WRONLY, 0o644)
	defer f.Close()
	fmt.Fprintln(f, "6 x 1 a hint")
	h.within(10*time.Second, "what the command says is told", func() bool {
		return h.status().Intakes[0].Trouble == "journalctl says: Hint: not all is seen"
	})
	fmt.Fprintln(f, "6 x 1 the end of the command")
	h.within(10*time.Second, "it is told", func() bool {
		return strings.Contains(h.status().Intakes[0].Trouble, "the journal cannot be read: journalctl says: Hint: not all is seen the journal is broken; it is tried again")
	})
	os.Remove(filepath.Join(h.dir, "entries"))
	h.journal(6, 9, "pumpd.service", "entry")
	h.waitForLines("all.log", 9)
	h.eventually("it is in order", func() bool { return h.status().Intakes[0].Trouble == "" })
}

// Where intakes would hear the same, the plan is warned.
func TestTheJournalIsNotHeardTwice(t *testing.T) {
	h := newHost(t, "oakbarrel: 1\nintakes:\n  a: {journal: {}}\n  b: {syslog: {socket: auto}}\n  c: {kernel: {}}\notherwise: {drop: true}\n")
	expect(t, 0, "plan.yaml:4:3: warning: the journal, which intake a reads, has what intake b hears as well", "", "plan", "check", h.plan)
	expect(t, 0, "plan.yaml:5:3: warning: the journal, which intake a reads, has what intake c hears as well", "", "plan", "check", h.plan)
	for text, want := range map[string]string{
		"namespace: '../x'":        `"../x" cannot be the namespace of a journal`,
		"namespace: '-x'":          `"-x" cannot be the namespace of a journal`,
		"namespace: a, folder: /x": "a folder of journals has no namespace",
		"since: tomorrow":          "since cannot be",
		"priority: loud":           `priority cannot be "loud"`,
		"units: ['[']":             `"["`,
		"unit: x":                  `journal has no key "unit"; did you mean units?`,
	} {
		h.setPlan("oakbarrel: 1\nintakes: {a: {journal: {" + text + "}}}\notherwise: {drop: true}\n")
		expect(t, 1, want, "", "plan", "check", h.plan)
	}
}
