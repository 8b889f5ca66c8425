// Package e2e tests whole processes: the real binary, real sockets, real files.
package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"oakbarrel/agent/roomtest"
	"oakbarrel/client"
)

// binary is oakbarrel, built once for all tests.
var binary string

func TestMain(m *testing.M) {
	flag.Parse()
	if side := flag.Lookup("test.parallel"); side.Value.String() == side.DefValue {
		side.Value.Set("4") // those that run side by side mostly wait
	}
	if err := roomtest.Find(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	dir, err := os.MkdirTemp("", "ob")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "oakbarrel")
	args := []string{"build", "-o", binary}
	if os.Getenv("OAKBARREL_RACE") != "" { // make race
		args = append(args, "-race")
	}
	build := exec.Command("go", append(args, "oakbarrel/cmd/oakbarrel")...)
	if os.Getenv("OAKBARREL_RACE") == "" {
		build.Env = append(os.Environ(), "CGO_ENABLED=0") // as it is shipped
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n", out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// host is one agent with a folder of its own.
type host struct {
	t        testing.TB
	dir      string
	plan     string
	state    string
	process  *exec.Cmd
	log      *logBuffer
	activate *os.File // a socket that is handed over
	manager  *manager // that starts it, nil for none
	path     string   // a folder in which programs are looked for first, "" for none
	machine  string   // a file with the id of another machine, "" for this one
	options  []string // of agent, beside the usual ones
}

// logBuffer takes a process's log while a test looks into it.
type logBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *logBuffer) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(b)
}

func (l *logBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// shortDir makes a folder whose sockets have short paths.
func shortDir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ob")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// newHost writes a plan, in which DIR is the host's folder. It starts nothing.
func newHost(t testing.TB, plan string) *host {
	t.Helper()
	dir := shortDir(t)
	h := &host{t: t, dir: dir, plan: filepath.Join(dir, "plan.yaml"), state: filepath.Join(dir, "state"), log: new(logBuffer)}
	t.Cleanup(func() {
		h.kill()
		if strings.Contains(h.log.String(), "DATA RACE") {
			t.Error("the agent has a data race")
		}
		if t.Failed() {
			t.Logf("the agent's log:\n%s", h.log)
		}
	})
	h.setPlan(plan)
	return h
}

func (h *host) setPlan(plan string) {
	h.t.Helper()
	if err := os.WriteFile(h.plan, []byte(strings.ReplaceAll(plan, "DIR", h.dir)), 0o644); err != nil {
		h.t.Fatal(err)
	}
}

// mountSmall mounts a file system of a size at the folder small of the host.
func (h *host) mountSmall(size string) (folder string) {
	h.t.Helper()
	folder = filepath.Join(h.dir, "small")
	mountSmall(h.t, folder, size)
	return folder
}

// mountSmall mounts a file system of a size at a folder, which it makes, and
// skips the test where that is not allowed.
func mountSmall(t testing.TB, folder, size string) {
	t.Helper()
	os.Mkdir(folder, 0o755)
	if err := syscall.Mount("tmpfs", folder, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("a file system cannot be mounted here: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(folder, syscall.MNT_DETACH) })
}

// resize changes the size of a file system that mountSmall has mounted.
func resize(t testing.TB, folder, size string) {
	t.Helper()
	if err := syscall.Mount("tmpfs", folder, "tmpfs", syscall.MS_REMOUNT, "size="+size); err != nil {
		t.Fatal(err)
	}
}

// start starts the agent and waits until it is ready.
func (h *host) start() {
	h.t.Helper()
	args := append([]string{binary, "agent", "--plan", h.plan, "--state", h.state}, h.options...)
	if h.activate != nil { // the process must be the one that LISTEN_PID names
		args = append([]string{"sh", "-c", `LISTEN_FDS=1 LISTEN_PID=$$ exec "$0" "$@"`}, args...)
	}
	if h.manager != nil {
		args = append([]string{"sh", "-c", h.manager.environment(h) + ` LISTEN_PID=$$ exec "$0" "$@"`}, args...)
	}
	if h.machine != "" { // another machine, as far as the agent can see
		args = append([]string{"unshare", "-m", "sh", "-c", `mount --bind "$0" /etc/machine-id && mount -t tmpfs tmpfs /run && exec "$@"`, h.machine}, args...)
	}
	h.process = exec.Command(args[0], args[1:]...)
	if h.activate != nil {
		h.process.ExtraFiles = []*os.File{h.activate}
	}
	if h.manager != nil {
		h.process.ExtraFiles = h.manager.files()
	}
	if h.path != "" {
		h.process.Env = append(os.Environ(), "PATH="+h.path+":"+os.Getenv("PATH"))
	}
	h.process.Stderr = h.log
	stdout, err := h.process.StdoutPipe()
	if err != nil {
		h.t.Fatal(err)
	}
	if err := h.process.Start(); err != nil {
		h.t.Fatal(err)
	}
	if line, _ := bufio.NewReader(stdout).ReadString('\n'); line != "ready\n" {
		h.process.Wait()
		h.t.Fatalf("the agent says %q instead of ready:\n%s", line, h.log)
	}
}

// stop ends the agent as an administrator would, and tells its exit code.
func (h *host) stop() int {
	h.t.Helper()
	start := time.Now()
	h.process.Process.Signal(syscall.SIGTERM)
	h.process.Wait()
	if d := time.Since(start); d > 10*time.Second {
		h.t.Errorf("stopping took %v", d)
	}
	code := h.process.ProcessState.ExitCode()
	h.process = nil
	return code
}

func (h *host) kill() {
	if h.process != nil {
		h.process.Process.Kill()
		h.process.Wait()
		h.process = nil
	}
}

// reload makes the agent read its plan again and waits until it has.
func (h *host) reload() client.Status {
	h.t.Helper()
	before := h.status()
	h.process.Process.Signal(syscall.SIGHUP)
	var s client.Status
	h.eventually("the plan is read again", func() bool {
		s = h.status()
		return !s.Plan.ReadAt.Equal(before.Plan.ReadAt) || s.Plan.Refused != nil && (before.Plan.Refused == nil || !s.Plan.Refused.At.Equal(before.Plan.Refused.At))
	})
	return s
}

func (h *host) status() (s client.Status) {
	h.t.Helper()
	out, stderr, _ := run(h.t, "status", "--state", h.state, "--output", "json")
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		h.t.Fatalf("status: %v\n%s%s", err, out, stderr)
	}
	if !s.Balance.Closes {
		h.t.Errorf("the balance does not close: %s", out)
	}
	return s
}

// address returns what an intake listens on, such as "127.0.0.1:5514" or a path.
func (h *host) address(network string) string {
	h.t.Helper()
	for _, in := range h.status().Intakes {
		for _, a := range in.Addresses {
			if rest, ok := strings.CutPrefix(a, network+":"); ok {
				return strings.TrimPrefix(rest, "//")
			}
		}
	}
	h.t.Fatalf("no intake listens on %s", network)
	return ""
}

func (h *host) dial(network string) net.Conn {
	h.t.Helper()
	dialNetwork := map[string]string{"unix": "unixgram", "udp": "udp", "tcp": "tcp"}[network]
	conn, err := net.Dial(dialNetwork, h.address(network))
	if err != nil {
		h.t.Fatal(err)
	}
	h.t.Cleanup(func() { conn.Close() })
	return conn
}

// send sends messages, each with one write.
func (h *host) send(network string, messages ...string) {
	h.t.Helper()
	conn := h.dial(network)
	for _, m := range messages {
		if _, err := conn.Write([]byte(m)); err != nil {
			h.t.Fatal(err)
		}
	}
	conn.Close()
}

// lines reads a file of the host; a missing one is empty.
func (h *host) lines(name string) []string {
	b, _ := os.ReadFile(filepath.Join(h.dir, name))
	if len(b) == 0 {
		return nil
	}
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
}

// waitForLines waits until a file has n lines, and returns them.
func (h *host) waitForLines(name string, n int) (lines []string) {
	h.t.Helper()
	h.eventually(fmt.Sprintf("%s has %d lines", name, n), func() bool {
		lines = h.lines(name)
		return len(lines) >= n
	})
	if len(lines) != n {
		h.t.Fatalf("%s has %d lines, want %d:\n%s", name, len(lines), n, strings.Join(lines, "\n"))
	}
	return lines
}

// eventually waits for what other processes do.
func (h *host) eventually(what string, done func() bool) {
	h.t.Helper()
	h.within(20*time.Second, what, done)
}

func (h *host) within(limit time.Duration, what string, done func() bool) {
	h.t.Helper()
	for deadline := time.Now().Add(limit); !done(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			h.t.Fatalf("it does not come about that %s", what)
		}
	}
}

// run runs a command to its end.
func run(t testing.TB, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	return runWith(t, nil, args...)
}

// environments holds what setenv has set, by test.
var environments sync.Map

// setenv sets a variable for the commands of one test, which may run beside others.
func setenv(t testing.TB, name, value string) {
	environments.Store(t, append(environmentOf(t), name+"="+value))
}

func environmentOf(t testing.TB) []string {
	if set, ok := environments.Load(t); ok {
		return slices.Clone(set.([]string))
	}
	return os.Environ()
}

// runWith is run with more in the environment.
func runWith(t testing.TB, environment []string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	var out, err bytes.Buffer
	c := exec.Command(binary, args...)
	c.Env = append(environmentOf(t), environment...)
	c.Stdout, c.Stderr = &out, &err
	if e := c.Run(); e != nil && c.ProcessState == nil {
		t.Fatal(e)
	}
	return out.String(), err.String(), c.ProcessState.ExitCode()
}

// expect runs a command and demands its exit code and parts of what it says.
func expect(t testing.TB, code int, wantOut, wantErr string, args ...string) (stdout string) {
	t.Helper()
	out, err, got := run(t, args...)
	if got != code || !strings.Contains(out, wantOut) || !strings.Contains(err, wantErr) {
		t.Errorf("oakbarrel %s\nexit code %d, want %d\nstdout %q, want %q\nstderr %q, want %q", strings.Join(args, " "), got, code, out, wantOut, err, wantErr)
	}
	return out
}

// plain is a plan that writes everything into one file, as bare texts.
const plain = `oakbarrel: 1
host: reef-02
intakes:
  local: {syslog: {socket: DIR/log.sock}}
  wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{severity} {text}', keep: forever}}
`
