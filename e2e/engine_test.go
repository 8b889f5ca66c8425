package e2e

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"
)

// engine is a container engine of the test's own, without a network.
type engine struct {
	t       *testing.T
	dir     string
	process *exec.Cmd
}

// newEngine starts an engine with one image, of a shell, or skips the test
// where none can run.
func newEngine(t *testing.T) *engine {
	for _, program := range []string{"dockerd", "docker", "/bin/busybox"} {
		if _, err := exec.LookPath(program); err != nil || os.Geteuid() != 0 {
			t.Skipf("a container engine cannot run here: %s is needed, and root", program)
		}
	}
	dir, err := os.MkdirTemp("", "oe") // short, for the sake of sockets
	if err != nil {
		t.Fatal(err)
	}
	e := &engine{t: t, dir: dir}
	e.process = exec.Command("dockerd", "--config-file", e.file("daemon.json", "{}"), "--data-root", dir+"/data", "--exec-root", dir+"/exec", "--pidfile", dir+"/pid", "-H", e.socket(),
		"--storage-driver", "overlay2", "--iptables=false", "--ip6tables=false", "--ip-forward=false", "--bridge=none")
	log, _ := os.Create(filepath.Join(dir, "log"))
	e.process.Stderr = log
	if err := e.process.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- e.process.Wait() }()
	t.Cleanup(func() {
		if ids := strings.Fields(e.docker("ps", "-aq")); len(ids) > 0 {
			e.docker(append([]string{"rm", "-f"}, ids...)...)
		}
		e.process.Process.Signal(syscall.SIGTERM)
		<-ended
		os.RemoveAll(dir)
	})
	for start := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if exec.Command("docker", "-H", e.socket(), "version").Run() == nil {
			break
		}
		select {
		case err := <-ended:
			b, _ := os.ReadFile(log.Name())
			ended <- err
			t.Skipf("a container engine cannot run here: %s", b[max(0, len(b)-600):])
		default:
		}
		if time.Since(start) > 30*time.Second {
			t.Fatal("the container engine does not answer")
		}
	}
	c := exec.Command("docker", "-H", e.socket(), "import", "-", "lantern:1")
	c.Stdin = image(t)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	return e
}

func (e *engine) socket() string { return "unix://" + e.dir + "/s" }

func (e *engine) file(name, text string) string {
	path := filepath.Join(e.dir, name)
	os.WriteFile(path, []byte(text), 0o644)
	return path
}

// image is a file system with a shell in it.
func image(t *testing.T) *bytes.Buffer {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	program, err := os.ReadFile("/bin/busybox")
	if err != nil {
		t.Fatal(err)
	}
	w.WriteHeader(&tar.Header{Name: "bin/busybox", Mode: 0o755, Size: int64(len(program))})
	w.Write(program)
	for _, name := range []string{"sh", "echo", "sleep", "printf", "seq", "head", "tr"} {
		w.WriteHeader(&tar.Header{Name: "bin/" + name, Typeflag: tar.TypeSymlink, Linkname: "busybox"})
	}
	w.WriteHeader(&tar.Header{Name: "tmp/", Typeflag: tar.TypeDir, Mode: 0o777})
	w.Close()
	return &b
}

func (e *engine) docker(args ...string) string {
	out, _ := exec.Command("docker", append([]string{"-H", e.socket()}, args...)...).CombinedOutput()
	return string(out)
}

// run starts a container that runs a script of the shell.
func (e *engine) run(name, script string, options ...string) {
	e.t.Helper()
	args := append([]string{"run", "-d", "--name", name, "--network", "none", "--ulimit", "nofile=1024:1024"}, options...)
	if out, err := exec.Command("docker", append([]string{"-H", e.socket()}, append(args, "lantern:1", "sh", "-c", script)...)...).CombinedOutput(); err != nil {
		e.t.Fatalf("%s", out)
	}
}

// A real engine's output: both streams, long lines, a stack trace, a log that
// is rolled, a container that is removed at once, and the agent killed meanwhile.
func TestARealContainerEngine(t *testing.T) {
	e := newEngine(t)
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: kelp-01
intakes:
  boxes: {containers: {engine: docker, root: %s/data/containers, wait: 500ms}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
`, e.dir))
	h.start()
	e.run("counter", `i=0; while [ $i -lt 4000 ]; do i=$((i+1)); echo "line $i"; if [ $((i%400)) = 0 ]; then echo "fault $i" >&2; sleep 0.1; fi; done`, "--log-opt", "max-size=100k", "--log-opt", "max-file=3", "--label", "oakbarrel.facility=local2", "--label", "team=tickets")
	e.run("long", `head -c 50000 /dev/zero | tr "\0" x; echo; printf 'panic: empty tank\n\ngoroutine 1 [running]:\nmain.main()\n\t/src/tank.go:5 +0x1d\n' >&2; sleep 2`, "--log-opt", "max-size=20k", "--log-opt", "max-file=5") // rolled in the middle of the line
	time.Sleep(500 * time.Millisecond)
	h.kill()
	h.start()
	e.docker("run", "--rm", "--name", "gone", "--network", "none", "--ulimit", "nofile=1024:1024", "lantern:1", "sh", "-c", `for i in 1 2 3; do echo "last words $i"; done; printf unfinished`)
	type line struct{ App, Text, Stream, Severity, Facility string }
	read := func() (all []line) {
		for _, text := range h.lines("all.log") {
			var l line
			json.Unmarshal([]byte(text), &l)
			all = append(all, l)
		}
		return all
	}
	const want = 4000 + 10 + 2 + 4
	h.eventually("all has arrived", func() bool { return len(h.lines("all.log")) >= want })
	time.Sleep(300 * time.Millisecond)
	count := map[string]int{}
	var others []string
	for _, l := range read() {
		if l.App == "counter" {
			count[l.Stream+" "+l.Severity+" "+l.Facility]++
			count[l.Text]++
			continue
		}
		others = append(others, fmt.Sprintf("%s %s %s %d %.40q", l.App, l.Stream, l.Severity, len(l.Text), l.Text))
	}
	for i := range 4000 {
		if n := count[fmt.Sprint("line ", i+1)]; n != 1 {
			t.Fatalf("line %d is there %d times", i+1, n)
		}
	}
	if count["stdout info local2"] != 4000 || count["stderr error local2"] != 10 {
		t.Errorf("%d on stdout, %d on stderr", count["stdout info local2"], count["stderr error local2"])
	}
	sort.Strings(others)
	got := strings.Join(others, "\n")
	for _, l := range []string{`gone stdout info 10 "unfinished"`, `gone stdout info 12 "last words 3"`, `long stdout info 50000 "xxx`, `long stderr error 75 "panic: empty tank\n\ngoroutine 1 [running]`} {
		if !strings.Contains(got, l) {
			t.Errorf("%q is not among\n%s", l, got)
		}
	}
	expect(t, 0, "counter", "", "containers", "--state", h.state)
}
