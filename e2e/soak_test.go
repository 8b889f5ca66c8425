package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// road is what lies between agents and the service: it can be cut and be slow.
type road struct {
	listener net.Listener
	to       string
	slow     atomic.Int64 // nanoseconds that each piece takes
	closed   atomic.Bool  // nothing gets through

	mu    sync.Mutex
	conns []net.Conn
}

func newRoad(t *testing.T, to string) *road {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	r := &road{listener: l, to: to}
	t.Cleanup(func() {
		l.Close()
		r.cut()
	})
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go r.carry(conn)
		}
	}()
	return r
}

func (r *road) carry(from net.Conn) {
	defer from.Close()
	if r.closed.Load() {
		return
	}
	to, err := net.Dial("tcp", r.to)
	if err != nil {
		return
	}
	defer to.Close()
	r.mu.Lock()
	r.conns = append(r.conns, from, to)
	r.mu.Unlock()
	go r.copy(from, to)
	r.copy(to, from)
}

// copy copies piece by piece until one side ends, and ends the other then.
func (r *road) copy(to, from net.Conn) {
	defer to.Close()
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		time.Sleep(time.Duration(r.slow.Load()))
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// cut ends all connections, in the middle of what they carry.
func (r *road) cut() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.conns {
		c.Close()
	}
	r.conns = nil
}

// fill leaves no room on the disk of an agent's state, and free gives it back.
func fill(t testing.TB, disk string) {
	f, err := os.OpenFile(filepath.Join(disk, "filler"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for size := 1 << 20; size > 0; { // less and less, to the last byte
		if n, err := f.Write(make([]byte, size)); err != nil || n < size {
			size /= 2
		}
	}
}

func free(disk string) { os.Remove(filepath.Join(disk, "filler")) }

// Agents, service and database are killed, connections cut and slowed down, the
// service's address closed and the agents' disks filled, while three hosts
// follow files that are rolled. In the end every balance closes, and the store
// has each line once. OAKBARREL_SOAK sets for how long.
func TestSoak(t *testing.T) {
	span := 12 * time.Second
	if d, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK")); err == nil {
		span = d
	}
	s := newStore(t)
	way := newRoad(t, s.address)
	rnd := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	var hosts []*host
	disks := map[*host]string{}
	var writers []*writer
	for i := range 3 {
		h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: host%d
service: {url: "http://%s", token_file: DIR/token}
disk: {floor: 0}
intakes:
  files: {files: {paths: ["DIR/logs/*.log", "DIR/logs/*.log.[0-9]*"]}}
otherwise: {send: [centre]}
outlets:
  centre: {store: {cask: bay}, spool: {disk: 64MiB, overflow: wait}, batch: {records: 400, wait: 50ms}}
`, i, way.listener.Addr()))
		os.WriteFile(filepath.Join(h.dir, "token"), []byte(s.token("bay", "write")+"\n"), 0o600)
		os.Mkdir(filepath.Join(h.dir, "logs"), 0o755)
		for n := range 2 {
			writers = append(writers, &writer{t: t, path: filepath.Join(h.dir, "logs", fmt.Sprintf("host%d-%c.log", i, 'a'+n)), rnd: rnd})
		}
		disks[h] = h.mountSmall("64m")
		h.state = filepath.Join(disks[h], "state")
		h.start()
		hosts = append(hosts, h)
	}
	did := map[string]int{}
	for end := time.Now().Add(span); time.Now().Before(end); time.Sleep(time.Duration(rnd.IntN(60)) * time.Millisecond) {
		w := writers[rnd.IntN(len(writers))]
		w.write()
		switch what := rnd.IntN(100); {
		case what < 20:
			w.roll()
		case what < 26:
			did["agent killed"]++
			h := hosts[rnd.IntN(len(hosts))]
			h.kill()
			w.write()
			free(disks[h])
			h.start()
		case what < 29:
			did["service killed"]++
			s.kill()
			time.Sleep(time.Duration(rnd.IntN(300)) * time.Millisecond)
			s.start()
		case what < 31:
			did["database killed"]++
			s.db.Kill()
			time.Sleep(time.Duration(rnd.IntN(500)) * time.Millisecond)
			if err := s.db.Restart(context.Background()); err != nil {
				t.Fatal(err)
			}
		case what < 41:
			did["connections cut"]++
			way.cut()
		case what < 44:
			did["slow"]++
			way.slow.Store(int64(rnd.IntN(30)) * int64(time.Millisecond))
		case what < 47:
			did["fast again"]++
			way.slow.Store(0)
		case what < 49:
			did["closed"]++
			way.closed.Store(true)
			way.cut()
		case what < 53:
			did["open again"]++
			way.closed.Store(false)
		case what < 56:
			did["disk filled"]++
			fill(t, disks[hosts[rnd.IntN(len(hosts))]])
		case what < 60:
			did["room again"]++
			free(disks[hosts[rnd.IntN(len(hosts))]])
		}
	}
	for _, disk := range disks {
		free(disk)
	}
	way.closed.Store(false)
	way.slow.Store(0)
	want := map[string]bool{}
	for _, w := range writers {
		for n := 1; n <= w.number; n++ {
			want[fmt.Sprintf("%s %d", filepath.Base(w.path), n)] = true
		}
	}
	t.Setenv("OAKBARREL_URL", s.url())
	t.Setenv("OAKBARREL_TOKEN", s.token("bay", "read"))
	hosts[0].within(90*time.Second, "all lines are in the store", func() bool {
		return s.count("bay") >= int64(len(want))
	})
	for _, h := range hosts {
		h.within(90*time.Second, "nothing waits", func() bool { return h.status().Outlets[0].Held == 0 }) // and the balance closes
	}
	out, stderr, code := run(t, "read", "--cask", "bay", "--since", "1d", "--limit", "0", "--output", "json")
	if code != 0 {
		t.Fatal(stderr)
	}
	wrong := 0
	for line := range strings.Lines(out) {
		var r struct{ Text string }
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			t.Fatal(err)
		}
		if !want[r.Text] && wrong < 10 {
			t.Errorf("%s is there twice, or was never written", r.Text)
			wrong++
		}
		delete(want, r.Text)
	}
	if len(want) > 0 {
		t.Errorf("%d lines are missing", len(want))
	}
	expect(t, 0, "in order", "", "store", "check", "--database-file", s.database)
	t.Logf("%d lines of %d files, %v", strings.Count(out, "\n"), len(writers), did)
}
