package e2e

import (
	"bufio"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/demo/mariadb"
)

// growing writes numbered lines to a file of a host, again and again until it is ended.
type growing struct {
	path    string
	written atomic.Int64
}

func (w *growing) run(t *testing.T, ending <-chan struct{}) {
	f, err := os.OpenFile(w.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		t.Error(err)
		return
	}
	defer f.Close()
	for {
		select {
		case <-ending:
			return
		case <-time.After(100 * time.Millisecond):
		}
		out := bufio.NewWriter(f)
		for range 60 {
			fmt.Fprintf(out, "%d pressure of tank %d is steady\n", w.written.Add(1), w.written.Load()%40)
		}
		if err := out.Flush(); err != nil {
			t.Error(err)
		}
	}
}

// storeSoak is a cluster of three nodes as the first shelf, two more shelves, two services
// and three hosts, each of whose feeds live on another shelf.
type storeSoak struct {
	t        *testing.T
	cluster  *mariadb.Cluster
	services []*store
	shelves  []*mariadb.Server // those beside the first
	hosts    []*host           // by the shelf of their feed
	lines    []*growing
	rnd      *rand.Rand
	did      map[string]int
	longest  map[string]time.Duration
	stop     time.Duration
	stalled  atomic.Int64 // nanoseconds for which this machine's disk and clock stood still, all together
}

// watchMachine notes for how long this machine does nothing at all: so long nobody can be
// blamed for waiting.
func (k *storeSoak) watchMachine(dir string, ending <-chan struct{}) {
	const usual = 500 * time.Millisecond
	f, err := os.Create(filepath.Join(dir, "probe"))
	if err != nil {
		k.t.Error(err)
		return
	}
	defer f.Close()
	for {
		began := time.Now()
		select {
		case <-ending:
			return
		case <-time.After(usual / 4):
		}
		f.WriteAt([]byte("here"), 0)
		f.Sync()
		if took := time.Since(began); took > usual {
			k.stalled.Add(int64(took))
		}
	}
}

// Nodes, services, shelves and agents die and stop, one after the other, while three hosts
// follow files that grow all the time. Nobody waits for long that has nothing to do with it,
// and in the end each line is there once, and the counts are exact.
func TestSoakStore(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("this takes minutes: make soak runs it")
	}
	k := newStoreSoak(t)
	if k.stop = stopTime; span > longSoak {
		k.stop = longStopTime
	}
	ending := make(chan struct{})
	var writing sync.WaitGroup
	for _, w := range k.lines {
		writing.Go(func() { w.run(t, ending) })
	}
	writing.Go(func() { k.watchMachine(k.services[0].dir, ending) })
	faults := []func(){k.nodeStops, k.serviceStops, k.shelfStops}
	for range 4 { // about five kills for each stop, which takes as long
		faults = append(faults, k.nodeDies, k.serviceDies, k.shelfDies, k.agentDies)
	}
	for n, end := 0, time.Now().Add(span); time.Now().Before(end) && !t.Failed(); n++ {
		if n%len(faults) == 0 {
			k.rnd.Shuffle(len(faults), func(i, j int) { faults[i], faults[j] = faults[j], faults[i] })
		}
		faults[n%len(faults)]()
	}
	close(ending)
	writing.Wait()
	k.inEnd()
}

func newStoreSoak(t *testing.T) *storeSoak {
	first, cluster := newClusterStore(t)
	k := &storeSoak{t: t, cluster: cluster, rnd: rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3)), did: map[string]int{}, longest: map[string]time.Duration{}}
	for _, name := range []string{"north", "south"} {
		k.shelves = append(k.shelves, first.addShelf(name))
	}
	second := &store{t: t, dir: first.dir, log: new(logBuffer), database: first.database, address: freeAddress(t)}
	second.start()
	t.Cleanup(second.kill)
	k.services = []*store{first, second}
	admin := first.token("*", "admin")
	alert := filepath.Join(t.TempDir(), "lines.yaml")
	os.WriteFile(alert, []byte("alert: 1\nby: host\nmore: {than: 0, in: 7d}\n"), 0o644)
	if _, stderr, code := first.ask(admin, "alert", "set", alert); code != 0 {
		t.Fatal(stderr)
	}
	time.Sleep(3 * time.Second) // until both services know it
	for i, shelf := range []string{"first", "north", "south"} {
		cask := "of-" + shelf
		token := first.token(cask, "write")
		if _, stderr, code := first.ask(admin, "cask", "set", cask, "--shelf", shelf); code != 0 {
			t.Fatal(stderr)
		}
		h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: host%d
service: {url: ["%s", "%s"], token_file: DIR/token}
intakes:
  files: {files: {paths: ["DIR/logs/*.log"]}}
otherwise: {send: [centre]}
outlets:
  centre: {store: {cask: %s}, spool: {disk: 1GiB, overflow: wait}, batch: {records: 2000, wait: 50ms}}
`, i, first.url(), second.url(), cask))
		os.WriteFile(filepath.Join(h.dir, "token"), []byte(token+"\n"), 0o600)
		os.Mkdir(filepath.Join(h.dir, "logs"), 0o755)
		k.lines = append(k.lines, &growing{path: filepath.Join(h.dir, "logs", "tank.log")})
		h.start()
		k.hosts = append(k.hosts, h)
	}
	return k
}

func (k *storeSoak) out(i int) int64 { return k.hosts[i].status().Outlets[0].Out }

// waits does something, and wants all hosts but one to deliver again within a limit. -1
// stands for all.
func (k *storeSoak) waits(what string, but int, limit time.Duration, do func()) {
	k.t.Helper()
	k.did[what]++
	do()
	began, stalled := time.Now(), k.stalled.Load()
	left := map[int]int64{}
	for i := range k.hosts {
		if i != but {
			left[i] = k.out(i)
		}
	}
	for len(left) > 0 {
		for i, before := range left {
			if k.out(i) > before {
				delete(left, i)
			}
		}
		if time.Since(began) > time.Minute {
			break
		}
		time.Sleep(250 * time.Millisecond) // as each look takes a core
	}
	took, none := time.Since(began), time.Duration(k.stalled.Load()-stalled)
	if k.longest[what] = max(k.longest[what], took); took-none > limit {
		k.t.Errorf("%s: hosts have delivered nothing for %v at %s, the machine stood still for %v of it; left are %v", what, took, began.Format(time.TimeOnly), none, slices.Collect(maps.Keys(left)))
	}
}

// settled waits until all hosts deliver again, and all nodes are in step: of three, two that
// are away at a time are one too many.
func (k *storeSoak) settled() {
	k.t.Helper()
	k.hosts[0].within(time.Minute, "all nodes are in step", func() bool {
		return !slices.ContainsFunc(k.cluster.Nodes, func(n *mariadb.Server) bool {
			return n.Ask("SHOW STATUS LIKE 'wsrep_cluster_size'") != "wsrep_cluster_size\t3" || n.Ask("SHOW STATUS LIKE 'wsrep_local_state'") != "wsrep_local_state\t4"
		})
	})
	for i, h := range k.hosts {
		before := k.out(i)
		h.within(time.Minute, "it delivers again", func() bool { return k.out(i) > before })
	}
	time.Sleep(time.Duration(k.rnd.IntN(1500)) * time.Millisecond)
}

// What a machine with other work to do may take longer than what is promised.
const (
	nodePause    = 8*time.Second + slack
	servicePause = 3*time.Second + slack
	otherPause   = time.Second + slack
	slack        = 4 * time.Second
)

func (k *storeSoak) node() *mariadb.Server { return k.cluster.Nodes[k.rnd.IntN(3)] }

func (k *storeSoak) nodeDies() {
	node := k.node()
	k.waits("a node dies", -1, nodePause, node.Kill)
	if err := node.Restart(k.t.Context()); err != nil {
		k.t.Fatal(err)
	}
	k.settled()
}

func (k *storeSoak) nodeStops() {
	node := k.node()
	k.waits("a node stops", -1, nodePause, node.Freeze)
	time.Sleep(k.stop)
	node.Thaw()
	k.settled()
}

// What stops stays so, beyond what is measured: for long in a soak that is.
const (
	stopTime     = 8 * time.Second
	longStopTime = 20 * time.Second
	longSoak     = 10 * time.Minute
)

func (k *storeSoak) serviceDies() {
	s := k.services[k.rnd.IntN(2)]
	k.waits("a service dies", -1, servicePause, s.kill)
	s.start()
	k.settled()
}

func (k *storeSoak) serviceStops() {
	s := k.services[k.rnd.IntN(2)]
	k.did["a service stops"]++
	s.freeze()
	time.Sleep(k.stop)
	s.thaw()
	k.settled()
}

func (k *storeSoak) shelfDies() {
	n := k.rnd.IntN(2)
	k.waits("a shelf dies", n+1, otherPause, k.shelves[n].Kill)
	time.Sleep(time.Second)
	if err := k.shelves[n].Restart(k.t.Context()); err != nil {
		k.t.Fatal(err)
	}
	k.settled()
}

func (k *storeSoak) shelfStops() {
	n := k.rnd.IntN(2)
	k.waits("a shelf stops", n+1, otherPause, k.shelves[n].Freeze)
	time.Sleep(k.stop)
	k.shelves[n].Thaw()
	k.settled()
}

func (k *storeSoak) agentDies() {
	k.did["an agent dies"]++
	h := k.hosts[k.rnd.IntN(3)]
	h.kill()
	time.Sleep(time.Duration(k.rnd.IntN(500)) * time.Millisecond)
	h.start()
	k.settled()
}

// inEnd wants all that was written, once.
func (k *storeSoak) inEnd() {
	k.t.Helper()
	s, all := k.services[0], int64(0)
	for i, w := range k.lines {
		n := w.written.Load()
		all += n
		reader := s.token("of-"+[]string{"first", "north", "south"}[i], "read")
		k.hosts[i].within(2*time.Minute, "all is in the store", func() bool {
			out, _, _ := s.ask(reader, "count", "--since", "1d", "--output", "json")
			return k.hosts[i].status().Outlets[0].Held == 0 && strings.HasPrefix(out, fmt.Sprintf(`{"total":%d,`, n))
		})
		out, stderr, code := s.ask(reader, "read", "--since", "1d", "--limit", "0", "--output", "json")
		if code != 0 {
			k.t.Fatal(stderr)
		}
		seen := make([]bool, n+1)
		for line := range strings.Lines(out) {
			_, text, _ := strings.Cut(line, `"text":"`)
			var number int64
			fmt.Sscanf(text, "%d ", &number)
			if number < 1 || number > n || seen[number] {
				k.t.Fatalf("host %d: line %d is there twice, or was never written", i, number)
			}
			seen[number] = true
		}
		if at := slices.Index(seen[1:], false); at >= 0 {
			k.t.Errorf("host %d: line %d of %d is missing", i, at+1, n)
		}
	}
	expect(k.t, 0, "in order", "", "store", "check", "--database-file", s.database)
	admin, told := s.token("*", "admin"), ""
	for i, w := range k.lines { // an alert has counted each line once
		k.hosts[i].within(time.Minute, fmt.Sprintf("%d lines of host%d are judged, and not: %s", w.written.Load(), i, told), func() bool {
			told, _, _ = s.ask(admin, "notice", "show", "1")
			return strings.Contains(told, fmt.Sprintf("host%d: %d records within 7d", i, w.written.Load()))
		})
	}
	k.t.Logf("%d lines; %v; longest waits %v; the machine stood still for %v", all, k.did, k.longest, time.Duration(k.stalled.Load()))
}
