package e2e

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// manager does what a service manager does for one process: it hears how it is, and keeps
// the sockets that it hands over.
type manager struct {
	t    *testing.T
	path string

	mu   sync.Mutex
	told []string
	kept map[string]*os.File
}

func newUnitManager(t *testing.T) *manager {
	t.Helper()
	m := &manager{t: t, path: filepath.Join(t.TempDir(), "notify"), kept: map[string]*os.File{}}
	conn, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: m.path, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	go m.hear(conn)
	return m
}

func (m *manager) hear(conn *net.UnixConn) {
	buffer, rights := make([]byte, 4096), make([]byte, 4096)
	for {
		n, rn, _, _, err := conn.ReadMsgUnix(buffer, rights)
		if err != nil {
			return
		}
		m.mu.Lock()
		text := string(buffer[:n])
		m.told = append(m.told, text)
		_, name, _ := strings.Cut(text, "FDNAME=")
		if messages, _ := unix.ParseSocketControlMessage(rights[:rn]); len(messages) > 0 {
			if fds, err := unix.ParseUnixRights(&messages[0]); err == nil {
				m.kept[name] = os.NewFile(uintptr(fds[0]), name)
			}
		} else if strings.HasPrefix(text, "FDSTOREREMOVE=1") {
			delete(m.kept, name)
		}
		m.mu.Unlock()
	}
}

func (m *manager) names() (names []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for name := range m.kept {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// files are the sockets that the next process gets.
func (m *manager) files() (files []*os.File) {
	for _, name := range m.names() {
		files = append(files, m.kept[name])
	}
	return files
}

func (m *manager) environment(h *host) string {
	h.t.Helper()
	names := m.names()
	return fmt.Sprintf("NOTIFY_SOCKET='%s' LISTEN_FDS=%d LISTEN_FDNAMES='%s'", m.path, len(names), strings.Join(names, ":"))
}

// hears waits until something was told.
func (m *manager) hears(h *host, what string) {
	h.t.Helper()
	h.within(20*time.Second, "the manager hears "+what, func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		return slices.ContainsFunc(m.told, func(text string) bool { return strings.Contains(text, what) })
	})
}

// An agent that a service manager starts again and again loses nothing that is sent to it
// meanwhile: its sockets stay open.
func TestARestartUnderAManagerLosesNothing(t *testing.T) {
	udp, tcp := freeAddress(t), freeAddress(t)
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: tide-gw
intakes:
  wire: {syslog: {udp: %q, tcp: %q, socket: DIR/datagrams, stream: DIR/streams}}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
otherwise: {send: [all]}
`, udp, tcp))
	h.manager = newUnitManager(t)
	h.start()
	h.manager.hears(h, "READY=1")
	end := make(chan struct{})
	var group sync.WaitGroup
	sent := map[string]int{}
	var mu sync.Mutex
	say := func(name string, send func(n int) error) {
		group.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-end:
					mu.Lock()
					sent[name] = n
					mu.Unlock()
					return
				case <-time.After(2 * time.Millisecond):
				}
				if err := send(n); err != nil {
					t.Errorf("%s, %d: %v", name, n, err)
				}
			}
		})
	}
	for name, at := range map[string][2]string{"udp": {"udp", udp}, "datagram": {"unixgram", filepath.Join(h.dir, "datagrams")}} {
		conn, err := net.Dial(at[0], at[1])
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		say(name, func(n int) error {
			_, err := fmt.Fprintf(conn, "<13>app: %s %d.", name, n)
			return err
		})
	}
	for name, at := range map[string][2]string{"tcp": {"tcp", tcp}, "stream": {"unix", filepath.Join(h.dir, "streams")}} {
		say(name, func(n int) error { // a connection for each
			conn, err := net.Dial(at[0], at[1])
			if err != nil {
				return err
			}
			defer conn.Close()
			_, err = fmt.Fprintf(conn, "<13>app: %s %d.\n", name, n)
			return err
		})
	}
	for name, at := range map[string][2]string{"held": {"tcp", tcp}, "heldunix": {"unix", filepath.Join(h.dir, "streams")}} {
		conn, err := net.Dial(at[0], at[1]) // one for all
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		say(name, func(n int) error { // each message in two parts
			if _, err := fmt.Fprintf(conn, "<13>app: %s", name); err != nil {
				return err
			}
			time.Sleep(time.Millisecond)
			_, err := fmt.Fprintf(conn, " %d.\n", n)
			return err
		})
	}
	for range 5 {
		time.Sleep(200 * time.Millisecond)
		h.stop()
		time.Sleep(100 * time.Millisecond)
		h.start()
	}
	close(end)
	group.Wait()
	total := 0
	for _, n := range sent {
		total += n
	}
	h.eventually("all is written", func() bool {
		text, _ := os.ReadFile(filepath.Join(h.dir, "all.log"))
		return strings.Count(string(text), "\n") >= total
	})
	text, _ := os.ReadFile(filepath.Join(h.dir, "all.log"))
	for name, n := range sent {
		for i := range n {
			if times := strings.Count(string(text), fmt.Sprintf("%s %d.\n", name, i)); times != 1 {
				t.Fatalf("%s %d is there %d times", name, i, times)
			}
		}
	}
	t.Logf("%v over five restarts", sent)
	h.manager.hears(h, "STOPPING=1")
	h.manager.hears(h, "STATUS=")

	// What the plan has no more is not kept either.
	if got := len(h.manager.names()); got != 4 {
		t.Errorf("kept are %v", h.manager.names())
	}
	h.setPlan("oakbarrel: 1\nhost: tide-gw\nintakes:\n  wire: {syslog: {udp: \"" + udp + "\"}}\noutlets:\n  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}\notherwise: {send: [all]}\n")
	h.reload()
	h.manager.hears(h, "RELOADING=1")
	h.eventually("one is kept", func() bool { return len(h.manager.names()) == 1 })
	if _, err := os.Lstat(filepath.Join(h.dir, "datagrams")); err == nil {
		t.Error("its path is there still")
	}
}

// Under a service manager an intake that cannot be opened keeps no other from starting.
// It is told, tried again, and open once it can be.
func TestAnIntakeThatCannotBeOpenedIsTriedAgain(t *testing.T) {
	t.Parallel()
	taken, free := freeAddress(t), freeAddress(t)
	other, err := net.Listen("tcp", taken)
	if err != nil {
		t.Fatal(err)
	}
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: tide-gw
intakes:
  taken: {syslog: {tcp: %q}}
  free: {syslog: {tcp: %q}}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
otherwise: {send: [all]}
`, taken, free))
	expect(t, 1, "", "is taken by another program", "agent", "--plan", h.plan, "--state", h.state) // by hand it is an error
	h.manager = newUnitManager(t)
	h.start()
	say := func(to, text string) {
		t.Helper()
		conn, err := net.Dial("tcp", to)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		fmt.Fprintf(conn, "<13>app: %s\n", text)
	}
	say(free, "one")
	h.waitForLines("all.log", 1)
	h.manager.hears(h, "taken: intake taken: tcp://"+taken+" is taken by another program")
	if in := h.status().Intakes[0]; !strings.Contains(in.Trouble, "is taken by another program") {
		t.Errorf("%+v", in)
	}
	other.Close()
	h.within(20*time.Second, "it is open", func() bool { return h.status().Intakes[0].Trouble == "" })
	say(taken, "two")
	h.waitForLines("all.log", 2)
}

// An agent that root has started goes on as another user, with what its plan needs of
// root's rights and no more.
func TestAnAgentDropsToItsUser(t *testing.T) {
	if os.Geteuid() != 0 || os.Getenv("OAKBARREL_RACE") != "" {
		t.Skip("it takes root, and a binary without a C library")
	}
	h := newHost(t, `oakbarrel: 1
host: tide-gw
intakes:
  low: {syslog: {udp: "127.0.0.1:1019"}}
  files: {files: {paths: [DIR/secret/*.log]}}
outlets:
  all: {file: {path: DIR/logs/all.log, format: '{text}', keep: forever}}
otherwise: {send: [all]}
`)
	const nobody = 65534
	secret, logs := filepath.Join(h.dir, "secret"), filepath.Join(h.dir, "logs")
	err := errors.Join(os.Chmod(h.dir, 0o755), os.Mkdir(secret, 0o700), os.WriteFile(filepath.Join(secret, "a.log"), []byte("of root\n"), 0o600), os.Mkdir(logs, 0o755), os.Chown(logs, nobody, nobody))
	if err != nil {
		t.Fatal(err)
	}
	expect(t, 3, "", "unknown user", "agent", "--plan", h.plan, "--state", h.state, "--user", "nobody-of-this-name")
	h.options = []string{"--user", "nobody"}
	h.start()
	conn, err := net.Dial("udp", "127.0.0.1:1019")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(conn, "<13>app: over a low port")
	h.eventually("both are written", func() bool {
		text, _ := os.ReadFile(filepath.Join(logs, "all.log"))
		return strings.Contains(string(text), "over a low port") && strings.Contains(string(text), "of root")
	})
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", h.status().PID))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Uid:\t65534\t65534\t65534\t65534", "CapEff:\t0000000000000404", "CapPrm:\t0000000000000404", "CapAmb:\t0000000000000000"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("want %s in\n%s", want, text)
		}
	}
	h.stop()
	os.Chown(h.state, 0, 0)
	expect(t, 3, "", "is that of user 0; give it to this one: chown -R 65534:65534", "agent", "--plan", h.plan, "--state", h.state, "--user", "nobody")
}
