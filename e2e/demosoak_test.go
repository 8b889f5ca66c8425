package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// The demo runs as a person leaves it: both agents go on as the processes that
// they were, nothing of them fails, is damaged, shed or lost, the balances close,
// and the agents do not grow. OAKBARREL_SOAK sets for how long, up to ten minutes.
func TestSoakDemo(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("this takes minutes: make soak runs it")
	}
	span = min(span, 10*time.Minute)
	dir := t.TempDir()
	c := exec.Command(binary, "demo", "--dir", dir)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		c.Process.Signal(syscall.SIGTERM)
		c.Wait()
	})
	var demo struct {
		URL, Token string
		Agents     []struct{ Name, State string }
	}
	h := &host{t: t, dir: dir, log: new(logBuffer)}
	h.eventually("demo.json is written", func() bool {
		text, err := os.ReadFile(filepath.Join(dir, "demo.json"))
		return err == nil && json.Unmarshal(text, &demo) == nil && len(demo.Agents) == 2
	})
	time.Sleep(span / 4)
	early := map[string]int64{}
	pids := map[string]int{}
	look := func(agent, state string) int64 {
		h.state = state
		s := h.status()
		if known, is := pids[agent]; is && known != s.PID {
			t.Errorf("%s is process %d, and was %d", agent, s.PID, known)
		}
		pids[agent] = s.PID
		if len(s.Faults) > 0 || len(s.Damaged) > 0 {
			t.Errorf("%s has failed: %+v, or is damaged: %+v", agent, s.Faults, s.Damaged)
		}
		if !s.Balance.Closes {
			t.Errorf("the balance of %s does not close: %+v", agent, s)
		}
		for _, o := range s.Outlets {
			if o.Shed > 0 {
				t.Errorf("outlet %s of %s has shed %d", o.Name, agent, o.Shed)
			}
		}
		return procNumber(t, s.PID, "status", "VmRSS") << 10
	}
	for _, a := range demo.Agents {
		early[a.Name] = look(a.Name, a.State)
	}
	for end := time.Now().Add(span * 3 / 4); time.Now().Before(end); time.Sleep(10 * time.Second) {
		for _, a := range demo.Agents {
			look(a.Name, a.State)
		}
	}
	for _, a := range demo.Agents {
		late := look(a.Name, a.State)
		t.Logf("%s: %d MiB early, %d MiB at the end", a.Name, early[a.Name]>>20, late>>20)
		if late > max(early[a.Name]*5/4, 64<<20) {
			t.Errorf("%s has grown", a.Name)
		}
	}
	t.Setenv("OAKBARREL_URL", demo.URL)
	t.Setenv("OAKBARREL_TOKEN", demo.Token)
	for _, cask := range []string{"gateway", "reef"} {
		out, stderr, _ := run(t, "cask", "show", cask, "--output", "json")
		var s struct {
			Records int64
			Feeds   []struct{ Records, Shed, Lost, Refused int64 }
		}
		if err := json.Unmarshal([]byte(out), &s); err != nil || s.Records == 0 {
			t.Fatalf("%v %s%s", err, out, stderr)
		}
		for _, f := range s.Feeds {
			if f.Shed+f.Lost+f.Refused > 0 {
				t.Errorf("cask %s misses records: %s", cask, out)
			}
		}
	}
}
