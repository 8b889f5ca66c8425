package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

const stdoutPlan = `oakbarrel: 1
host: reef-02
intakes: {local: {syslog: {socket: DIR/log.sock}}}
otherwise: {send: [console, runs]}
outlets:
  console: {stdout: {format: '{host} {severity} {app}: {text}'}}
  runs: {file: {path: DIR/runs.log, format: '{text}', roll: {at: start}, keep: forever}}
`

// spoken starts the agent with its standard output in our hands, and returns its lines
// behind the one that says that it is ready.
func (h *host) spoken() (lines <-chan string) {
	h.t.Helper()
	h.process = exec.Command(binary, "agent", "--plan", h.plan, "--state", h.state)
	h.process.Stderr = h.log
	out, err := h.process.StdoutPipe()
	if err == nil {
		err = h.process.Start()
	}
	if err != nil {
		h.t.Fatal(err)
	}
	said := make(chan string, 100_000)
	go func() {
		defer close(said)
		for s := bufio.NewScanner(out); s.Scan(); {
			said <- s.Text()
		}
	}()
	if line := <-said; line != "ready" {
		h.t.Fatalf("it says %q\n%s", line, h.log)
	}
	return said
}

// An outlet writes to the agent's own standard output, and each run has a file of its own.
func TestStdoutAndAFileOfEachRun(t *testing.T) {
	h := newHost(t, stdoutPlan)
	for run, text := range []string{"first", "second", "third"} {
		lines := h.spoken()
		expect(t, 0, "", "", "send", "--to", "unix:"+h.dir+"/log.sock", "--app", "pumpd", text)
		select {
		case line := <-lines:
			if line != "reef-02 notice pumpd: "+text {
				t.Errorf("it says %q", line)
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("run %d says nothing\n%s", run, h.log)
		}
		h.waitForLines("runs.log", 1)
		h.stop()
		if got, _ := os.ReadFile(h.dir + "/runs.log"); string(got) != text+"\n" {
			t.Errorf("run %d has written %q", run, got)
		}
	}
	if pieces, _ := filepath.Glob(h.dir + "/runs-*.log"); len(pieces) != 2 {
		t.Errorf("the pieces are %s", pieces)
	}
	h.start()
	h.stop() // an empty file is no piece
	if pieces, _ := filepath.Glob(h.dir + "/runs-*.log"); len(pieces) > 3 {
		t.Errorf("the pieces are %s", pieces)
	}
}

// A reader of standard output that does not read holds up nobody, and loses nothing.
func TestAReaderThatDoesNotReadHoldsUpNobody(t *testing.T) {
	h := newHost(t, strings.NewReplacer("[console, runs]", "[console]", "  runs:", "  #runs:").Replace(stdoutPlan))
	h.process = exec.Command(binary, "agent", "--plan", h.plan, "--state", h.state)
	h.process.Stderr = h.log
	out, _ := h.process.StdoutPipe()
	if err := h.process.Start(); err != nil {
		t.Fatal(err)
	}
	reader := bufio.NewReader(out)
	if line, _ := reader.ReadString('\n'); line != "ready\n" {
		t.Fatalf("%q", line)
	}
	expect(t, 0, "", "", "send", "--to", "unix:"+h.dir+"/log.sock", "--app", "pumpd", "--count", "3000", strings.Repeat("x", 200))
	h.eventually("all are taken, and wait", func() bool { o := h.status().Outlets[0]; return o.In == 3000 && o.Held > 0 })
	began := time.Now()
	h.process.Process.Signal(syscall.SIGTERM)
	h.process.Wait()
	if took := time.Since(began); took > 12*time.Second {
		t.Errorf("it has ended after %v", took)
	}
	lines := h.spoken()
	seen := 0
	for deadline := time.After(20 * time.Second); h.status().Outlets[0].Held > 0 || seen == 0; {
		select {
		case <-lines:
			seen++
		case <-deadline:
			t.Fatalf("%d lines are there, and it goes on to hold %+v", seen, h.status().Outlets[0])
		case <-time.After(50 * time.Millisecond):
		}
	}
	if o := h.status(); !o.Balance.Closes {
		t.Errorf("%+v", o.Balance)
	}
}
