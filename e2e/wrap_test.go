package e2e

import (
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

const wrapPlan = `oakbarrel: 1
intakes: {local: {syslog: {socket: DIR/log.sock}}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{facility}.{severity} {app} {text}', keep: forever}}
`

func TestWrapCollectsBothStreamsAndPassesTheExitStatusOn(t *testing.T) {
	h := newHost(t, wrapPlan)
	h.start()
	script := `echo up; echo "no krill" >&2; printf 'Traceback (most recent call last):\n  File "planner.py", line 4\nValueError: empty\nWARN late\n'; printf unfinished; exit 7`
	out, _, code := run(t, "wrap", "--app", "feed-planner", "--facility", "local4", "--to", h.state, "--pass", "--", "sh", "-c", script)
	if code != 7 || !strings.HasSuffix(out, "WARN late\nunfinished") {
		t.Errorf("exit code %d, and %q is passed on", code, out)
	}
	want := map[string]bool{"local4.info feed-planner up": true, "local4.error feed-planner no krill": true, "local4.warning feed-planner WARN late": true, "local4.info feed-planner unfinished": true,
		`local4.info feed-planner Traceback (most recent call last):\n  File "planner.py", line 4\nValueError: empty`: true}
	for _, line := range h.waitForLines("all.log", 5) {
		if !want[line] {
			t.Errorf("%q", line)
		}
	}
	expect(t, 3, "", "executable file not found", "wrap", "--app", "x", "--to", h.dir+"/log.sock", "--", "no-such-program")
	if line := h.waitForLines("all.log", 6)[5]; !strings.HasPrefix(line, "user.error x the program cannot be started: ") {
		t.Errorf("%q", line)
	}
	expect(t, 2, "", "known are", "wrap", "--app", "x", "--stdout", "loud", "--", "true")
}

func TestWrapPassesSignalsOn(t *testing.T) {
	h := newHost(t, wrapPlan)
	h.start()
	c := exec.Command(binary, "wrap", "--app", "pumpd", "--to", "unix:"+h.dir+"/log.sock", "--", "sh", "-c", `trap 'echo "got it"; exit 3' TERM; echo up; while :; do sleep 0.02; done`)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	h.waitForLines("all.log", 1)
	c.Process.Signal(syscall.SIGTERM)
	c.Wait()
	if code := c.ProcessState.ExitCode(); code != 3 {
		t.Errorf("exit code %d", code)
	}
	if lines := h.waitForLines("all.log", 2); lines[1] != "user.info pumpd got it" {
		t.Errorf("%q", lines)
	}
	if _, _, code := run(t, "wrap", "--app", "x", "--to", h.state, "--", "sh", "-c", "kill -9 $$"); code != 137 {
		t.Errorf("a program that was killed gives %d", code)
	}
}

func TestWrapWaitsForAnAgent(t *testing.T) {
	h := newHost(t, wrapPlan)
	h.start()
	h.stop()
	c := exec.Command(binary, "wrap", "--app", "pumpd", "--to", h.state, "--", "sh", "-c", "for i in 1 2 3; do echo line $i; sleep 0.1; done")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(600 * time.Millisecond)
	h.start()
	if err := c.Wait(); err != nil {
		t.Fatal(err)
	}
	if lines := h.waitForLines("all.log", 3); lines[0] != "user.info pumpd line 1" || lines[2] != "user.info pumpd line 3" {
		t.Errorf("%q", lines)
	}
}
