package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Whatever file of the state folder is full of rubbish, or empty, the agent
// starts, hears, keeps its identity, and tells what was damaged and what it cost.
func TestADamagedStateKeepsNobodyFromStarting(t *testing.T) {
	sink, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	sink.Close() // nobody takes what is sent there, so that it stays in the spool
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: reef-02
intakes:
  local: {syslog: {socket: DIR/log.sock}}
  pumps: {files: {paths: ["DIR/*.pump"]}}
otherwise: {send: [all, away]}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
  away: {syslog: {tcp: %q}}
`, sink.Addr()))
	os.WriteFile(filepath.Join(h.dir, "p7.pump"), []byte(strings.Repeat("a line of the pump\n", 50)), 0o644)
	h.start()
	h.waitForLines("all.log", 50)
	time.Sleep(1500 * time.Millisecond) // until it is written down
	id := h.status().AgentID
	var files []string
	filepath.WalkDir(h.state, func(path string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && filepath.Base(path) != "lock" && filepath.Base(path) != "ballast" && filepath.Base(path) != "plan.yaml" {
			files = append(files, path)
		}
		return nil
	})
	if len(files) < 10 {
		t.Fatalf("only %v", files)
	}
	h.kill()
	for _, path := range files {
		good, err := os.ReadFile(path)
		if err != nil || len(good) == 0 {
			continue
		}
		for what, bad := range map[string][]byte{"rubbish": []byte(strings.Repeat("rubbish\x00", 9)), "empty": {}} {
			if err := os.WriteFile(path, bad, 0o640); err != nil {
				t.Fatal(err)
			}
			h.start()
			quiet := what == "empty" && (strings.HasSuffix(path, ".chunk") || strings.Contains(path, "/intents/") && !strings.Contains(path, ".taken") || strings.HasSuffix(path, "shed"))
			if !quiet { // a file of an outlet is opened, and found damaged, right after the start
				h.eventually(fmt.Sprintf("%s, %s: it is told", path, what), func() bool { return len(h.status().Damaged) > 0 })
			}
			s := h.status()
			if s.AgentID != id {
				t.Errorf("%s, %s: it is another agent", path, what)
			}
			h.send("unix", "<13>still here")
			h.eventually("it hears", func() bool { return strings.Contains(strings.Join(h.lines("all.log"), " "), "still here") })
			h.kill()
			os.Truncate(filepath.Join(h.dir, "all.log"), 0)
			os.WriteFile(path, good, 0o640)
		}
	}
	if out, _, _ := run(t, "doctor", "--plan", h.plan, "--state", h.state); !strings.Contains(out, "damaged files of the state folder were put aside") {
		t.Errorf("the doctor does not tell: %s", out)
	}
}

// A named pipe in the place of an outlet's file holds nobody up.
func TestAPipeInThePlaceOfAFileHoldsNobodyUp(t *testing.T) {
	h := newHost(t, plain)
	if err := exec.Command("mkfifo", filepath.Join(h.dir, "all.log")).Run(); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"plan", "check", h.plan}, {"doctor", "--plan", h.plan, "--state", h.state}} {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		out, _ := exec.CommandContext(ctx, binary, args...).CombinedOutput()
		if ctx.Err() != nil {
			t.Errorf("%v hangs", args)
		}
		cancel()
		if args[0] == "doctor" && !strings.Contains(string(out), "is not a regular file") {
			t.Errorf("%s", out)
		}
	}
}
