package e2e

import (
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

func TestAPipeTakesNoFilesPlace(t *testing.T) {
	h := newHost(t, pipePlan)
	h.write("gate/app.log", "a file\n")
	_, stderr, code := run(t, "agent", "--plan", h.plan, "--state", h.state)
	if code != 1 || !strings.Contains(stderr, "something else stands there") {
		t.Errorf("exit code %d: %s", code, stderr)
	}
}
