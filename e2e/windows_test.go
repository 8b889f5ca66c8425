package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode/utf16"
)

// windows runs the build for Windows in a stand-in for that system, wine. Real there are files with
// their sharing rules, their ids, sockets on loopback and the service manager; the log of events is not.
type windows struct {
	t   *testing.T
	dir string // of the stand-in; C: is drive_c in it, Z: this machine's /
	exe string
}

const wine64 = "/usr/lib/wine/wine64"

// The random numbers of Go come from a library that the stand-in lacks.
const randomShim = `#include <windows.h>
BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE b, SIZE_T n) { return SystemFunction036(b, (ULONG)n); }
`

// newWindows makes a system of its own, with our program on it. OAKBARREL_WINE asks for it: make windows-test.
func newWindows(t *testing.T) *windows {
	t.Helper()
	if os.Getenv("OAKBARREL_WINE") == "" {
		t.Skip("make windows-test runs it")
	}
	w := &windows{t: t, dir: shortDir(t)}
	w.exe = filepath.Join(w.dir, "oakbarrel.exe")
	build := exec.Command("go", "build", "-tags", "nomsgpack", "-o", w.exe, "../cmd/oakbarrel")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	shim := filepath.Join(w.dir, "shim.c")
	os.WriteFile(shim, []byte(randomShim), 0o644)
	w.must(build)
	end := func() {
		c := exec.Command("/usr/lib/wine/wineserver64", "-k")
		c.Env = append(os.Environ(), "WINEPREFIX="+w.dir)
		c.Run()
	}
	t.Cleanup(end)
	w.command("wineboot", "-i").Run() // it complains of displays that are not there
	end()                             // what it has started would not start services of ours
	w.must(exec.Command("x86_64-w64-mingw32-gcc", "-shared", "-o", filepath.Join(w.dir, "drive_c/windows/system32/bcryptprimitives.dll"), shim, "-ladvapi32"))
	return w
}

func (w *windows) must(c *exec.Cmd) {
	w.t.Helper()
	if out, err := w.output(c); err != nil {
		w.t.Fatalf("%s: %v\n%s", c, err, out)
	}
}

// output runs a command and returns what it says, without waiting for what it has started, which has its output too.
func (w *windows) output(c *exec.Cmd) (string, error) {
	w.t.Helper()
	f, err := os.CreateTemp(w.dir, "said-*")
	if err != nil {
		w.t.Fatal(err)
	}
	defer f.Close()
	c.Stdout, c.Stderr = f, f
	err = c.Run()
	said, _ := os.ReadFile(f.Name())
	return string(said), err
}

func (w *windows) command(args ...string) *exec.Cmd {
	c := exec.Command(wine64, args...)
	c.Env = append(os.Environ(), "WINEPREFIX="+w.dir, "WINEDEBUG=-all", "DISPLAY=", "OAKBARREL_URL=", "OAKBARREL_TOKEN=")
	return c
}

// run runs our command, and holds its exit code and what it says to what is expected.
func (w *windows) run(code int, want string, args ...string) string {
	w.t.Helper()
	c := w.command(append([]string{w.exe}, args...)...)
	out, _ := w.output(c)
	if got := c.ProcessState.ExitCode(); got != code || !strings.Contains(out, want) {
		w.t.Errorf("%q: exit code %d, not %d, or without %q:\n%s", args, got, code, want, out)
	}
	return out
}

// onWindows returns a path of this machine as Windows has it.
func onWindows(of string) string { return `Z:` + strings.ReplaceAll(of, "/", `\`) }

// agent starts the agent and waits until it is ready.
func (w *windows) agent(plan, state string) *exec.Cmd {
	w.t.Helper()
	c := w.command(w.exe, "agent", "--plan", onWindows(plan), "--state", onWindows(state))
	var log bytes.Buffer
	c.Stderr = &log
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { c.Process.Kill() })
	line := make([]byte, 5)
	if _, err := io.ReadFull(out, line); err != nil || string(line) != "ready" {
		c.Process.Kill()
		c.Wait()
		w.t.Fatalf("%q, %v:\n%s", line, err, log.String())
	}
	return c
}

func TestWindowsPlans(t *testing.T) {
	w := newWindows(t)
	plan := filepath.Join(w.dir, "plan.yaml")
	write := func(intakes, outlet string) {
		os.WriteFile(plan, fmt.Appendf(nil, "oakbarrel: 1\nintakes: {%s}\noutlets: {all: {file: {path: %s, keep: {days: 3}}}}\notherwise: {send: [all]}\n", intakes, outlet), 0o644)
	}
	const fine = `'C:\logs\all.log'`
	for _, c := range []struct {
		intakes, outlet string
		code            int
		want            string
	}{
		{`a: {files: {paths: ['C:\logs\**\*.txt', 'D:/pumps/*.log', '\\kelp-01\logs\a.txt']}}, b: {events: {channels: [System]}}`, fine, 0, ""},
		{`a: {syslog: {socket: auto}}`, fine, 1, "plan.yaml:2:24: socket does not work on this system; Windows has no socket for syslog; write udp or tcp"},
		{`a: {journal: {}}`, fine, 1, "journal does not work on this system"},
		{`a: {files: {paths: ['logs\*.log']}}`, fine, 1, `begin it with a drive, as in C:\logs\pump.log`},
		{`a: {own: {}}`, `'C:\logs\con'`, 1, "the path names a device"},
		{`a: {own: {}}`, `'C:\logs\a?.log'`, 1, "is a pattern"},
		{`a: {files: {paths: ['c:\LOGS\*.log']}}`, fine, 1, "the pattern finds the file of outlet all"},
	} {
		write(c.intakes, c.outlet)
		w.run(c.code, c.want, "plan", "check", onWindows(plan))
	}
	begin, err := filepath.Abs("../packaging/windows/plan.yaml")
	if err != nil {
		t.Fatal(err)
	}
	w.run(0, "", "plan", "check", onWindows(begin))
}

// lineWriter writes numbered lines into files, which it rolls as programs and their keepers do.
type lineWriter struct {
	dir  string
	n    int
	wide *os.File // of UTF-16
}

func (l *lineWriter) write(lines int) error {
	var plain, copied bytes.Buffer
	var units []byte
	for range lines {
		l.n++
		switch text := fmt.Sprintf("line %07d", l.n); l.n % 3 {
		case 0:
			plain.WriteString(text + "\n")
		case 1:
			copied.WriteString(text + "\r\n")
		default:
			for _, u := range utf16.Encode([]rune(text + "\r\n")) {
				units = append(units, byte(u), byte(u>>8)) // the low byte first
			}
		}
	}
	if l.wide == nil {
		f, err := os.Create(filepath.Join(l.dir, "wide.log"))
		if err != nil {
			return err
		}
		f.Write([]byte{0xff, 0xfe})
		l.wide = f
	}
	_, err := l.wide.Write(units)
	for name, b := range map[string][]byte{"plain.log": plain.Bytes(), "copied.log": copied.Bytes()} {
		f, openErr := os.OpenFile(filepath.Join(l.dir, name), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
		if openErr != nil {
			return openErr
		}
		_, writeErr := f.Write(b)
		err = errors.Join(err, writeErr, f.Close())
	}
	return err
}

// roll renames one file and compresses the one that was renamed before, and copies the other and cuts it.
func (l *lineWriter) roll(round int) error {
	at := func(name string) string { return filepath.Join(l.dir, name) }
	err := os.Rename(at("plain.log"), at(fmt.Sprintf("plain-%d.log", round)))
	if before := at(fmt.Sprintf("plain-%d.log", round-1)); round > 1 {
		err = errors.Join(err, exec.Command("gzip", before).Run())
	}
	b, readErr := os.ReadFile(at("copied.log"))
	return errors.Join(err, readErr, os.WriteFile(at(fmt.Sprintf("copied-%d.log", round)), b, 0o644), os.Truncate(at("copied.log"), 0))
}

// TestWindowsKills kills the agent again and again (OAKBARREL_KILLS, 30 times as a rule) while files
// are written, renamed, copied and cut, and compressed, while its service is away for a part of the time and its
// spool full: each line stands once in the rolled set, whose tally verifies, and once in the store.
func TestWindowsKills(t *testing.T) {
	w := newWindows(t)
	s := newStore(t)
	kills, _ := strconv.Atoi(os.Getenv("OAKBARREL_KILLS"))
	if kills == 0 {
		kills = 30
	}
	logs, out, state, plan := filepath.Join(w.dir, "logs"), filepath.Join(w.dir, "out"), filepath.Join(w.dir, "state"), filepath.Join(w.dir, "plan.yaml")
	os.Mkdir(logs, 0o755)
	wire := freeAddress(t)
	token := filepath.Join(w.dir, "token")
	os.WriteFile(token, []byte(s.token("windows", "write")+"\n"), 0o600)
	os.WriteFile(plan, fmt.Appendf(nil, `oakbarrel: 1
service: {url: '%s', token_file: '%s'}
intakes:
  files: {files: {paths: ['%s\*.log', '%s\*.gz'], decode: {pattern: '^(?P<text>line \d+)$'}}}
  wire:  {syslog: {tcp: '%s'}}
outlets:
  all:   {file: {path: '%s\all.log', roll: {size: 256KiB}, keep: {days: 3}, compress: gzip, format: '{text}'}}
  store: {store: {cask: windows}, spool: {disk: 2MiB, overflow: wait}}
otherwise: {send: [all, store]}
`, s.url(), onWindows(token), onWindows(logs), onWindows(logs), wire, onWindows(out)), 0o644)
	w.run(0, "", "plan", "check", onWindows(plan))

	l := &lineWriter{dir: logs}
	for round := 1; round <= kills; round++ {
		agent := w.agent(plan, state)
		switch round {
		case kills / 3:
			s.kill()
		case kills * 2 / 3:
			s.start()
		}
		for until := time.Now().Add(time.Duration(200+rand.IntN(1000)) * time.Millisecond); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			if err := l.write(40); err != nil {
				t.Fatal(err)
			}
		}
		agent.Process.Kill()
		agent.Wait()
		if err := l.roll(round); err != nil {
			t.Fatal(err)
		}
	}
	w.agent(plan, state)
	conn, err := net.Dial("tcp", wire)
	if err != nil {
		t.Fatal(err)
	}
	const sent = 1000
	for range sent {
		l.n++
		fmt.Fprintf(conn, "<14>Nov 30 10:00:00 kelp-01 ticketd: line %07d\n", l.n)
	}
	conn.Close()
	setenv(t, "OAKBARREL_URL", s.url())
	setenv(t, "OAKBARREL_TOKEN", s.token("windows", "read"))
	for until := time.Now().Add(2 * time.Minute); s.count("windows") < int64(l.n) && time.Now().Before(until); time.Sleep(time.Second) {
	}
	time.Sleep(3 * time.Second) // what comes twice comes now

	stored, stderr, code := run(t, "read", "--cask", "windows", "--since", "20000d", "--limit", "0", "--output", "json")
	if code != 0 {
		t.Fatal(stderr)
	}
	eachOnce(t, "the store", l.n, stored)
	eachOnce(t, "the rolled set", l.n, rolledText(t, out))
	w.run(0, "", "verify", "all", "--state", onWindows(state))
	w.run(0, "closes", "status", "--state", onWindows(state))
	w.run(0, "at end", "followed", "--state", onWindows(state))
	w.run(0, "all.log", "trace", "--state", onWindows(state))
	var status struct {
		System string `json:"system"`
	}
	if err := json.Unmarshal([]byte(w.run(0, "{", "status", "--state", onWindows(state), "--output", "json")), &status); err != nil || status.System != "windows" {
		t.Errorf("%v, %+v", err, status)
	}
}

// rolledText returns what stands in the pieces of a set and in its live file.
func rolledText(t *testing.T, dir string) string {
	t.Helper()
	var all strings.Builder
	found, err := filepath.Glob(filepath.Join(dir, "all*"))
	if err != nil || len(found) < 3 {
		t.Fatalf("%q, %v", found, err)
	}
	for _, name := range found {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(name, ".gz") {
			in, err := gzip.NewReader(bytes.NewReader(b))
			if err == nil {
				b, err = io.ReadAll(in)
			}
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		} else if !strings.HasSuffix(name, ".log") {
			continue // the tally
		}
		all.Write(b)
	}
	return all.String()
}

var numberedLine = regexp.MustCompile(`line (\d{7})`)

// eachOnce holds a text to having each of so many numbered lines once.
func eachOnce(t *testing.T, what string, lines int, text string) {
	t.Helper()
	times := make([]int, lines+1)
	for _, m := range numberedLine.FindAllStringSubmatch(text, -1) {
		if n, _ := strconv.Atoi(m[1]); n <= lines {
			times[n]++
		}
	}
	wrong := 0
	for n, got := range times[1:] {
		if got != 1 {
			if wrong++; wrong <= 5 {
				t.Errorf("%s has line %d %d times", what, n+1, got)
			}
		}
	}
	t.Logf("%s: %d lines, %d of them not once", what, lines, wrong)
}

// TestWindowsService has the agent started, told to read its plan again, and stopped by the service manager.
func TestWindowsService(t *testing.T) {
	w := newWindows(t)
	plan, state := filepath.Join(w.dir, "plan.yaml"), filepath.Join(w.dir, "state")
	write := func(version, days int) {
		os.WriteFile(plan, fmt.Appendf(nil, "oakbarrel: %d\nintakes: {wire: {syslog: {tcp: '%s'}}}\noutlets: {all: {file: {path: '%s\\all.log', keep: {days: %d}}}}\notherwise: {send: [all]}\n", version, freeAddress(t), onWindows(w.dir), days), 0o644)
	}
	write(1, 3)
	shell := w.command("cmd", "/k") // as long as it runs, services do
	input, err := shell.StdinPipe()
	if err == nil {
		err = shell.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer shell.Wait()
	defer input.Close()
	w.run(3, "oakbarrel service install makes it", "service", "start")
	// Nobody but administrators can read these folders afterwards, so that nothing else may be in them.
	w.run(3, "is a whole drive", "service", "install", "--plan", `C:\plan.yaml`)
	w.run(3, "the plan needs a folder of its own", "service", "install", "--plan", `C:\windows\plan.yaml`)
	w.run(3, "the state needs a folder of its own", "service", "install", "--plan", `C:\OakBarrel\plan.yaml`, "--state", `C:\windows`)
	// The stand-in cannot give a service an account of its own, so that it is not installed by us.
	w.must(w.command("sc", "create", "OakBarrel", "binPath=", fmt.Sprintf("%s agent --as-service --plan %s --state %s", onWindows(w.exe), onWindows(plan), onWindows(state))))
	for until := time.Now().Add(30 * time.Second); ; time.Sleep(time.Second) { // its service manager takes a while to know the service
		out, err := w.output(w.command(w.exe, "service", "start"))
		if err == nil {
			break
		}
		if time.Now().After(until) {
			log, _ := os.ReadFile(filepath.Join(state, "agent.log"))
			t.Fatalf("the service does not start: %s%s", out, log)
		}
	}
	hash := func() string {
		return regexp.MustCompile(`hash [0-9a-f]+`).FindString(w.run(0, "plan", "status", "--state", onWindows(state)))
	}
	before := hash()
	write(1, 4)
	w.run(0, "", "service", "reload")
	for until := time.Now().Add(10 * time.Second); hash() == before && time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
	}
	if hash() == before {
		t.Error("the plan was not read again")
	}
	w.run(0, "", "service", "stop")
	w.run(1, "no agent runs", "status", "--state", onWindows(state))
	write(2, 4)
	w.run(3, "the service has ended", "service", "start")
	w.run(0, "", "service", "remove")
	log, err := os.ReadFile(filepath.Join(state, "agent.log"))
	for _, want := range []string{"agent is ready", "the plan is taken", "agent has stopped", "the agent has ended"} {
		if err != nil || !bytes.Contains(log, []byte(want)) {
			t.Errorf("the log of the service has no %q: %v\n%s", want, err, log)
		}
	}
}
