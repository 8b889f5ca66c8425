package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// podmanEngine is an engine of the test's own, without a network and without a daemon.
type podmanEngine struct {
	t   *testing.T
	dir string
}

func newPodman(t *testing.T) *podmanEngine {
	t.Helper()
	for _, program := range []string{"podman", "conmon", "runc", "/bin/busybox"} {
		if _, err := exec.LookPath(program); err != nil || os.Geteuid() != 0 {
			t.Skipf("podman cannot run here: %s is needed, and root", program)
		}
	}
	p := &podmanEngine{t, shortDir(t)}
	c := p.command("import", "-", "lantern/box:1")
	c.Stdin = image(t)
	if out, err := c.CombinedOutput(); err != nil {
		t.Skipf("podman cannot run here: %s", out)
	}
	t.Cleanup(func() { p.command("rm", "-af", "-t", "0").Run() })
	return p
}

func (p *podmanEngine) command(args ...string) *exec.Cmd {
	return exec.Command("podman", append([]string{"--root", p.dir + "/data", "--runroot", p.dir + "/run", "--storage-driver", "overlay", "--cgroup-manager", "cgroupfs", "--runtime", "runc"}, args...)...)
}

// run runs a container with a script of the shell.
func (p *podmanEngine) run(name, script string, options ...string) {
	p.t.Helper()
	args := append([]string{"run", "-d", "--name", name, "--network", "none", "--ulimit", "nofile=1024:1024", "--ulimit", "nproc=1024:1024"}, options...)
	if out, err := p.command(append(args, "lantern/box:1", "sh", "-c", script)...).CombinedOutput(); err != nil {
		p.t.Fatalf("%s", out)
	}
}

// The output of a real podman's containers, with their names, images, labels and pods, and
// the files that they write into their own file systems, beside those of a real docker.
func TestARealPodman(t *testing.T) {
	t.Parallel()
	p, e := newPodman(t), newEngine(t)
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: kelp-01
intakes:
  boxes: {containers: {engine: podman, root: %s/data/overlay-containers}}
  whales: {containers: {engine: docker, root: %s/data/containers}}
  inside: {files: {paths: ["%s/data/overlay/*/diff/tmp/*.log", "%s/data/overlay2/*/diff/tmp/*.log"]}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
`, p.dir, e.dir, p.dir, e.dir))
	h.start()
	if out, err := p.command("pod", "create", "--infra=false", "--name", "bay").CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	p.run("counter", `i=0; while [ $i -lt 500 ]; do i=$((i+1)); echo "line $i"; done; echo fault >&2; echo "from inside" > /tmp/box.log; sleep 60`,
		"--label", "team=tickets", "--label", "oakbarrel.facility=local2", "--pod", "bay", "--env", "PASSWORD=seahorse", "--log-driver", "k8s-file")
	p.run("quiet", "sleep 60", "--log-driver", "none")
	e.run("whale", `for i in 1 2 3; do echo "song $i"; done; echo "from inside a whale" > /tmp/box.log; sleep 60`, "--label", "team=tickets")
	h.within(30*time.Second, "all has arrived", func() bool { return len(h.lines("all.log")) >= 502+4 })
	type line struct {
		App, Text, Stream, Severity, Facility, Intake string
		Fields                                        map[string]map[string]string
	}
	seen := map[string]int{}
	for _, text := range h.lines("all.log") {
		if strings.Contains(text, "seahorse") {
			t.Errorf("the environment is told: %s", text)
		}
		var l line
		if err := json.Unmarshal([]byte(text), &l); err != nil {
			t.Fatal(err)
		}
		box := l.Fields["container@32473"]
		want := "counter localhost/lantern/box:1 bay tickets"
		if l.Intake == "whales" || l.Text == "from inside a whale" {
			want = "whale lantern:1  tickets"
		}
		if got := box["name"] + " " + box["image"] + " " + box["pod"] + " " + l.Fields["labels@32473"]["team"]; got != want {
			t.Fatalf("%s\nwant %s", text, want)
		}
		seen[l.Intake+" "+l.Stream+" "+l.Severity+" "+l.Facility]++
		seen[l.Text]++
	}
	for i := range 500 {
		if n := seen[fmt.Sprint("line ", i+1)]; n != 1 {
			t.Fatalf("line %d is there %d times", i+1, n)
		}
	}
	if seen["song 1"] != 1 || seen["song 3"] != 1 || seen["from inside a whale"] != 1 || seen["from inside"] != 1 {
		t.Errorf("%v", seen)
	}
	if seen["boxes stdout info local2"] != 500 || seen["boxes stderr error local2"] != 1 {
		t.Errorf("%v", seen)
	}
	expect(t, 0, "counter", "", "containers", "--state", h.state)
	h.eventually("it is told that the other's output goes nowhere", func() bool {
		out, _, _ := run(t, "containers", "--state", h.state)
		return strings.Contains(out, "its output is thrown away")
	})
	if m, _ := filepath.Glob(p.dir + "/data/libpod/*"); len(m) == 0 {
		t.Error("there is no database of the engine's")
	}
}
