package nodes

import (
	"database/sql"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"oakbarrel/demo/mariadb"
)

// Which node is written to is told by what the cluster says alone, whatever the order of
// the names, and whichever service asks.
func TestTheNodeToWriteTo(t *testing.T) {
	const ours, theirs = "0a", "0b"
	at := func(cluster string, index, step int) state {
		return state{asked: true, ready: true, primary: true, cluster: cluster, index: index, step: step}
	}
	away := state{asked: true, err: errors.New("refused"), cluster: ours, ready: true, primary: true, step: inStep}
	parted, joins, frozen := at(ours, 0, inStep), at(ours, 0, 1), at(ours, 0, inStep)
	parted.primary, frozen.readOnly = false, true
	for _, c := range []struct {
		what  string
		known string // the cluster that was written to
		are   []state
		want  int // -1 for none
	}{
		{"the first of the members", "", []state{at(ours, 2, inStep), at(ours, 0, inStep), at(ours, 1, inStep)}, 1},
		{"one that is away", ours, []state{away, at(ours, 1, inStep)}, 1},
		{"one that joins", ours, []state{joins, at(ours, 1, inStep)}, 1},
		{"one that gives its data to another", ours, []state{at(ours, 0, gives), at(ours, 1, inStep)}, 1},
		{"that alone is left", ours, []state{at(ours, 0, gives), joins}, 0},
		{"one that is parted from the others", ours, []state{parted, at(ours, 2, inStep)}, 1},
		{"one that is read-only", ours, []state{frozen, at(ours, 2, inStep)}, 1},
		{"of another cluster", ours, []state{at(theirs, 0, inStep), at(ours, 1, inStep)}, 1},
		{"two clusters at first: the first name's", "", []state{at(theirs, 1, inStep), at(ours, 0, inStep)}, 0},
		{"a cluster that was made anew", ours, []state{at(theirs, 1, inStep), at(theirs, 0, inStep)}, 1},
		{"servers of no cluster", "", []state{at("", 0, 0), at("", 0, 0)}, -1},
		{"nobody", ours, []state{away, away}, -1},
	} {
		n := &Nodes{cluster: c.known, notes: slog.New(slog.DiscardHandler), changed: make(chan struct{})}
		for _, s := range c.are {
			n.all = append(n.all, &node{is: s})
		}
		n.choose()
		if got := slices.Index(n.all, n.writer); got != c.want {
			t.Errorf("%s: %d, want %d", c.what, got, c.want)
		}
	}
}

func newNodes(t *testing.T, dsns ...string) *Nodes {
	t.Helper()
	var configs []*mysql.Config
	for _, dsn := range dsns {
		c, err := mysql.ParseDSN(dsn)
		if err != nil {
			t.Fatal(err)
		}
		c.Timeout, c.ReadTimeout = 5*time.Second, time.Minute
		configs = append(configs, c)
	}
	n, err := New(configs, slog.New(slog.NewTextHandler(t.Output(), nil)))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// A file that names servers which are no cluster is not taken for one.
func TestServersOfNoCluster(t *testing.T) {
	db := sql.OpenDB(newNodes(t, "oak:lantern@tcp(127.0.0.1:1)/oakbarrel", "oak:lantern@tcp(127.0.0.1:2)/oakbarrel"))
	defer db.Close()
	err := db.Ping()
	if err == nil || !strings.Contains(err.Error(), "no node of the cluster can be written to now: 127.0.0.1:1 does not answer") || strings.Contains(err.Error(), "lantern") {
		t.Error(err)
	}
}

// The node that is written to changes soon after it dies, and soon after it stops to
// answer; what waits for it is not left waiting, and all find the same one.
func TestANodeDiesAndOneStops(t *testing.T) {
	cluster, err := mariadb.StartCluster(t.Context(), 3)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cluster.Close)
	dsns := strings.Split(cluster.DSNs(), "\n")
	one := newNodes(t, dsns...)
	slices.Reverse(dsns)
	other := newNodes(t, dsns...)
	first, second := sql.OpenDB(one), sql.OpenDB(other)
	t.Cleanup(func() { first.Close(); second.Close() })
	for _, db := range []*sql.DB{first, second} {
		if err := db.Ping(); err != nil {
			t.Fatal(err)
		}
	}
	writer := func() *mariadb.Server {
		t.Helper()
		a, _ := one.now()
		b, _ := other.now()
		if a == nil || b == nil || a.address != b.address {
			t.Fatalf("one writes to %v, the other to %v", a, b)
		}
		for _, s := range cluster.Nodes {
			if strings.Contains(s.DSN, a.address) {
				return s
			}
		}
		t.Fatal("of no node:", a.address)
		return nil
	}
	if _, err := first.Exec("CREATE TABLE told (n INT PRIMARY KEY)"); err != nil {
		t.Fatal(err)
	}
	wait := func(what string, limit time.Duration, before *mariadb.Server) {
		t.Helper()
		began := time.Now()
		for {
			a, _ := one.now()
			b, _ := other.now()
			if a != nil && b != nil && !strings.Contains(before.DSN, a.address) && !strings.Contains(before.DSN, b.address) {
				t.Logf("%s: another one after %v", what, time.Since(began))
				return
			}
			if time.Since(began) > limit {
				t.Fatalf("%s: none after %v", what, limit)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	write := func(n int) {
		t.Helper()
		for began := time.Now(); ; {
			_, err := first.Exec("INSERT IGNORE INTO told VALUES (?)", n)
			if err == nil {
				break
			}
			if time.Since(began) > 30*time.Second {
				t.Fatal(err)
			}
		}
		var got int
		if err := second.QueryRow("SELECT COUNT(*) FROM told WHERE n = ?", n).Scan(&got); err != nil || got != 1 {
			t.Fatal(got, err)
		}
	}
	write(1)
	dies := writer()
	dies.Kill()
	wait("killed", 2*time.Second+slack, dies)
	write(2)

	if err := dies.Restart(t.Context()); err != nil {
		t.Fatal(err)
	}
	time.Sleep(settling + 2*pause) // the one that came back may be the first of the members
	stops := writer()
	hangs := make(chan error, 1)
	go func() {
		_, err := first.Exec("DO SLEEP(50)")
		hangs <- err
	}()
	time.Sleep(pause)
	stops.Freeze()
	wait("stopped", 5*time.Second+slack, stops)
	select {
	case err := <-hangs:
		if err == nil {
			t.Error("what waited for a node that has stopped had an answer")
		}
	case <-time.After(slack):
		t.Error("what waited for a node that has stopped waits still")
	}
	write(3)
	stops.Thaw()
	write(4)
}

// slack is what a machine with much to do may take longer.
const slack = 3 * time.Second
