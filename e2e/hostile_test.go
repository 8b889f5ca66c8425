package e2e

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// Bad input of every kind stops no intake and disturbs no other.
func TestBadInputDisturbsNobody(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	rnd := rand.New(rand.NewPCG(5, 6))
	garbage := make([]byte, 200_000)
	for i := range garbage {
		garbage[i] = byte(rnd.Uint32())
	}
	for _, stream := range []string{
		"", "\n\n\x00\n", "5", "99999 <13>short", "<", "<999>x", "<13>1 - - - - [", "<13>1 2026-11-25T10:00:00Z h a 1 m [x y=\"" + strings.Repeat("z", 1<<20), strings.Repeat("\x00", 100_000), strings.Repeat("9", 100_000), string(garbage),
		"<13>\xff\xfe\xc0\x80\n", strings.Repeat("y", 1<<20) + "\n",
	} {
		h.send("tcp", stream)
		for part := stream; len(part) > 0 && len(stream) < 50_000; part = "" {
			h.send("udp", part)
			h.send("unix", part)
		}
	}
	for range 50 { // half-open: nothing is ever said, or half a message
		fmt.Fprint(h.dial("tcp"), "<13>half a mess")
	}
	for _, network := range []string{"unix", "udp", "tcp"} {
		h.send(network, "<13>x: fine over "+network)
	}
	h.eventually("good messages arrive all the same", func() bool {
		b, _ := os.ReadFile(filepath.Join(h.dir, "all.log"))
		return strings.Count(string(b), "notice fine over ") == 3
	})
	for _, line := range h.lines("all.log") {
		if strings.ContainsAny(line, "\x00\x1b\r\x7f") || !strings.Contains(line, " ") {
			t.Errorf("a line of the file: %.100q", line)
		}
	}
	if s := h.status(); s.Intakes[1].Connections < 50 {
		t.Errorf("%d connections", s.Intakes[1].Connections)
	}
	if code := h.stop(); code != 0 {
		t.Errorf("exit code %d", code)
	}
	if b, _ := os.ReadFile(filepath.Join(h.dir, "all.log")); strings.Count(string(b), "half a mess") != 50 {
		t.Errorf("%d of the half messages are kept", strings.Count(string(b), "half a mess"))
	}
}

func TestManyConnections(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	const n = 9900 // the process that tests has about as many files, and the plan allows 10,000
	address := h.address("tcp")
	var conns []net.Conn
	for range n {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		conns = append(conns, c)
	}
	h.send("udp", "<13>x: beside them")
	h.waitForLines("all.log", 1)
	for i, c := range conns {
		fmt.Fprintf(c, "<13>x: from %d\n", i)
	}
	h.waitForLines("all.log", n+1)
	out, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.process.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	var kib int
	_, after, _ := strings.Cut(string(out), "VmRSS:")
	fmt.Sscan(after, &kib)
	if kib > 100<<10 && os.Getenv("OAKBARREL_RACE") == "" {
		t.Errorf("%d connections take %d KiB", n, kib)
	}
}

// However many connections senders open, what has a file, an outlet or a question
// of its own finds descriptors.
func TestConnectionsLeaveDescriptors(t *testing.T) {
	h := newHost(t, strings.Replace(strings.Replace(plain, "otherwise:", `  apps: {otlp: {http: "127.0.0.1:0"}}
  files: {files: {paths: [DIR/*.txt]}}
otherwise:`, 1), "keep: forever", "roll: {size: 1KiB}, keep: forever", 1))
	h.start()
	const most = 160
	if err := unix.Prlimit(h.process.Process.Pid, unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: most, Max: most}, nil); err != nil {
		t.Fatal(err)
	}
	for _, network := range []string{"tcp", "http"} {
		address := strings.TrimSuffix(h.address(network), "/")
		for range most {
			if c, err := net.Dial("tcp", address); err == nil {
				defer c.Close()
			}
		}
	}
	h.eventually("connections are turned away by both", func() bool {
		s := h.status()
		return s.Intakes[1].TurnedAway > 0 && s.Intakes[2].TurnedAway > 0
	})
	for n := range 40 {
		os.WriteFile(filepath.Join(h.dir, fmt.Sprint(n, ".txt")), fmt.Appendf(nil, "line of file %d, with some more in it\n", n), 0o644)
	}
	h.eventually("files are read and rolled", func() bool {
		s := h.status()
		return s.Outlets[0].Out == 40 && s.Outlets[0].Pieces > 0 && s.Outlets[0].Trouble == ""
	})
}

func TestTheKernelTellsWhoSpeaks(t *testing.T) {
	h := newHost(t, strings.Replace(plain, "'{severity} {text}'", "'{peer}'", 1))
	h.start()
	h.send("unix", "<13>x: y")
	h.send("udp", "<13>x: y")
	lines := h.waitForLines("all.log", 2)
	if want := fmt.Sprintf("pid %d uid %d", os.Getpid(), os.Getuid()); lines[0] != want {
		t.Errorf("got %q, want %q", lines[0], want)
	}
	if !strings.HasPrefix(lines[1], "127.0.0.1:") {
		t.Errorf("got %q", lines[1])
	}
}

func TestWithoutAHostBothFamiliesAreHeard(t *testing.T) {
	h := newHost(t, strings.ReplaceAll(strings.Replace(plain, "'{severity} {text}'", "'{peer} {text}'", 1), "127.0.0.1:0", ":0"))
	h.start()
	port := func(network string) string { a := h.address(network); return a[strings.LastIndex(a, ":"):] }
	n := 0
	for _, host := range []string{"127.0.0.1", "[::1]"} {
		for _, network := range []string{"udp", "tcp"} {
			c, err := net.Dial(network, host+port(network))
			if err != nil {
				t.Skipf("no %s here: %v", host, err)
			}
			fmt.Fprint(c, "<13>x: hello")
			c.Close()
			n++
			if line := h.waitForLines("all.log", n)[n-1]; !strings.HasPrefix(line, host+":") {
				t.Errorf("from %s: %q", host, line)
			}
		}
	}
}

func TestRollingOnTheClockAndKeeping(t *testing.T) {
	h := newHost(t, strings.Replace(plain, "keep: forever", "roll: {every: 1s}, keep: {pieces: 2}, compress: gzip", 1))
	h.start()
	conn := h.dial("udp")
	pieces := func() []string {
		names, _ := filepath.Glob(filepath.Join(h.dir, "all-*.log.gz"))
		return names
	}
	var first []string
	h.eventually("pieces come and go", func() bool {
		fmt.Fprint(conn, "<13>x: tick")
		now := pieces()
		if len(now) > 0 && first == nil {
			first = now
		}
		return first != nil && len(now) == 2 && now[0] > first[0]
	})
	h.eventually("the removal is logged", func() bool { return strings.Contains(h.log.String(), "pieces are removed, as keep says") })
	h.stop()
	for _, p := range pieces() {
		if out, err := exec.Command("gzip", "-t", p).CombinedOutput(); err != nil {
			t.Errorf("%s: %v %s", p, err, out)
		}
	}
}

func TestWhatAnEarlierRunLeftIsPutInOrder(t *testing.T) {
	h := newHost(t, strings.Replace(plain, "keep: forever", "roll: {size: 1KiB}, keep: {pieces: 9}, compress: zstd", 1))
	write := func(name, content string) {
		if err := os.WriteFile(filepath.Join(h.dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("all-20261125T101500Z.log", "an old piece\n")
	write(".all-20261125T101500Z.log.zst.part", "half of it")
	write("all.log", "the old live file\n")
	h.start()
	h.eventually("the piece is compressed", func() bool {
		_, err := os.Stat(filepath.Join(h.dir, "all-20261125T101500Z.log.zst"))
		return err == nil
	})
	time.Sleep(50 * time.Millisecond)
	if names, _ := filepath.Glob(filepath.Join(h.dir, ".all*")); len(names) > 0 {
		t.Errorf("%q are left", names)
	}
	h.send("udp", "<13>x: new")
	h.waitForLines("all.log", 2)
	if out := expect(t, 0, "", "", "show", "all", "--state", h.state); out != "an old piece\nthe old live file\nnotice new\n" {
		t.Errorf("%q", out)
	}
}
