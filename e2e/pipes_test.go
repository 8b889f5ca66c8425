package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
)

const pipePlan = `oakbarrel: 1
intakes:
  legacy:
    pipes: {paths: [DIR/gate/app.log], mode: 0600, join: indented, wait: 300ms}
    label: {facility: local1, app: gate}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{facility}.{severity} {app} {text}', keep: forever}}
`

// A program that insists on a file writes into a pipe, and goes on through new
// starts and kills of the agent.
func TestAPipeInThePlaceOfALogFile(t *testing.T) {
	t.Parallel()
	h := newHost(t, pipePlan)
	h.start()
	path := h.dir + "/gate/app.log"
	st, err := os.Stat(path)
	if err != nil || st.Mode() != os.ModeNamedPipe|0o600 {
		t.Fatal(st, err)
	}
	h.eventually("nobody writes", func() bool { return strings.Contains(h.status().Intakes[0].Addresses[0], "nobody writes") })
	program, err := os.OpenFile(path, os.O_WRONLY, 0) // does not wait for a reader
	if err != nil {
		t.Fatal(err)
	}
	defer program.Close()
	write := func(text string) {
		if _, err := program.WriteString(text); err != nil { // EPIPE where nobody held it
			t.Fatal(err)
		}
	}
	write("one\nERROR two\n  indented\nhalf")
	h.waitForLines("all.log", 3)
	h.eventually("somebody writes", func() bool { return !strings.Contains(h.status().Intakes[0].Addresses[0], "nobody writes") })
	h.kill()
	write("while away\n")
	h.start()
	h.waitForLines("all.log", 4)
	h.stop()
	write("again\n")
	h.start()
	want := []string{"local1.notice gate one", `local1.error gate ERROR two\n  indented`, "local1.notice gate half", "local1.notice gate while away", "local1.notice gate again"}
	if got := strings.Join(h.waitForLines("all.log", 5), "|"); got != strings.Join(want, "|") {
		t.Errorf("got %q", got)
	}
	h.stop()
	// The process that holds the pipe ends with it.
	os.Remove(path)
	time.Sleep(1500 * time.Millisecond)
	if _, err := program.WriteString("nobody\n"); err == nil {
		t.Error("the pipe is held although it was removed")
	}
}

// A program that writes on and on is not ended by kills of the agent. What a
// killed agent had read and not written down is gone; nothing comes twice.
func TestAPipeThroughKills(t *testing.T) {
	h := newHost(t, pipePlan)
	h.start()
	program, err := os.OpenFile(h.dir+"/gate/app.log", os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer program.Close()
	written := 0
	for range 5 {
		for range 200 {
			written++
			if _, err := fmt.Fprintf(program, "line %d\n", written); err != nil {
				t.Fatal(err)
			}
		}
		h.eventually("some lines are there", func() bool { return len(h.lines("all.log")) > 0 })
		h.kill()
		h.start()
	}
	written++
	fmt.Fprintf(program, "line %d\n", written)
	last := fmt.Sprintf("gate line %d", written)
	h.eventually("the last line is there", func() bool {
		all := h.lines("all.log")
		return len(all) > 0 && strings.HasSuffix(all[len(all)-1], last)
	})
	seen := 0
	for _, line := range h.lines("all.log") {
		var n int
		if _, err := fmt.Sscanf(line, "local1.notice gate line %d", &n); err != nil || n <= seen {
			t.Fatalf("%q comes after line %d", line, seen)
		}
		seen = n
	}
	if kept := len(h.lines("all.log")); kept < written/5 {
		t.Errorf("%d of %d lines are left", kept, written)
	}
}

func TestAPipeTakesNoFilesPlace(t *testing.T) {
	h := newHost(t, pipePlan)
	h.write("gate/app.log", "a file\n")
	_, stderr, code := run(t, "agent", "--plan", h.plan, "--state", h.state)
	if code != 1 || !strings.Contains(stderr, "something else stands there") {
		t.Errorf("exit code %d: %s", code, stderr)
	}
}
