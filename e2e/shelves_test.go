package e2e

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/demo/mariadb"
)

// addShelf starts a database and adds it to the shelves of the store.
func (s *store) addShelf(name string) *mariadb.Server {
	s.t.Helper()
	db, err := mariadb.Start(s.t.Context(), filepath.Join(s.dir, name))
	if err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(db.Kill)
	file := filepath.Join(s.dir, name+".dsn")
	os.WriteFile(file, []byte(db.DSN+"\n"), 0o600)
	out := expect(s.t, 0, "shelf "+name+" takes feeds", "", "shelf", "add", name, "--shelf-file", file, "--database-file", s.database)
	if strings.Contains(out, "lantern") {
		s.t.Errorf("the password is told: %s", out)
	}
	s.waitForLog(`msg="a shelf answers" shelf=` + name)
	return db
}

func (s *store) waitForLog(text string) {
	s.t.Helper()
	for began := time.Now(); !strings.Contains(s.log.String(), text); {
		if time.Since(began) > 20*time.Second {
			s.t.Fatalf("the service does not say %q", text)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// A shelf that is away keeps its own feeds waiting and nothing else, and all answers say what
// is missing. Once it is back everything is there, once; drained, it can go.
func TestAShelfIsAwayAndComesBack(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	north := s.addShelf("north")
	admin := s.token("*", "admin")
	hosts := map[string]*host{}
	for _, cask := range []string{"gateway", "pumps"} {
		writer := s.token(cask, "write")
		if cask == "gateway" {
			out, stderr, code := s.ask(admin, "cask", "set", cask, "--shelf", "north")
			if code != 0 || !strings.Contains(out, "its new feeds go to shelf north") {
				t.Fatal(out, stderr)
			}
		} else if _, stderr, code := s.ask(admin, "cask", "set", cask, "--shelf", "first"); code != 0 {
			t.Fatal(stderr)
		}
		h := s.host(cask, writer)
		h.start()
		hosts[cask] = h
		h.sendNumbers(1, 100)
		h.allDelivered()
	}
	expect(t, 0, "north  in use      1", "", "shelf", "list", "--database-file", s.database)
	s.account("noor", "admin")
	b := newBrowser(t, s.url())
	b.signIn("noor", "lantern-light")

	north.Kill()
	s.waitForLog(`msg="a shelf is away; its feeds wait on their hosts" shelf=north`)
	began := time.Now()
	hosts["pumps"].sendNumbers(101, 200)
	hosts["pumps"].allDelivered()
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("feeds of another shelf waited for %v", took)
	}
	hosts["gateway"].sendNumbers(101, 200)
	hosts["gateway"].eventually("the agent says why it waits", func() bool {
		o := hosts["gateway"].status().Outlets[0]
		return o.Held == 100 && strings.Contains(o.Trouble, "shelf north is away")
	})
	for _, c := range []struct {
		args []string
		has  string
	}{
		{[]string{"read", "--since", "1h", "--limit", "0"}, "200"},
		{[]string{"count", "--since", "1h"}, "200"},
		{[]string{"count", "--since", "1h", "--by", "app"}, "200"},
		{[]string{"casks"}, "pumps"},
		{[]string{"cask", "show", "gateway"}, "its new feeds go to shelf north"},
	} {
		out, stderr, code := s.ask(admin, c.args...)
		if code != 3 || !strings.Contains(stderr, "what stands on shelf north is missing here") || !strings.Contains(out, c.has) {
			t.Errorf("%v: exit code %d, %s\n%s", c.args, code, stderr, out)
		}
	}
	if out, _, code := s.ask(admin, "read", "--cask", "pumps", "--since", "1h"); code != 0 || strings.Count(out, "\n") != 200 {
		t.Errorf("what has nothing there: exit code %d, %s", code, out)
	}
	expect(t, 0, "north is away: ", "", "shelf", "list", "--database-file", s.database)
	expect(t, 3, "", "a shelf is away", "shelf", "check", "--database-file", s.database)
	b.click("a[href='/logs']")
	b.waitForText("Shelf north is away: what stands there is missing here")
	b.fits("logs without a shelf")
	b.picture("shelf-away")
	b.click("a[href='/casks']")
	b.waitForText("▲ away")
	b.fits("casks without a shelf")
	b.picture("shelves-away")

	if err := north.Restart(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, h := range hosts {
		h.allDelivered()
	}
	s.hasEach(1, 200)
	expect(t, 0, "north: in order, 1 feeds", "", "shelf", "check", "--database-file", s.database)

	// It may be reached in another way from now on, as long as it is the same.
	expect(t, 3, "", "the database is another one", "shelf", "set", "north", "--shelf-file", s.database, "--database-file", s.database)
	other := filepath.Join(s.dir, "other.dsn")
	os.WriteFile(other, []byte(north.DSN+"?timeout=7s\n"), 0o600)
	expect(t, 0, "shelf north takes feeds", "", "shelf", "set", "north", "--shelf-file", other, "--size", "2TiB", "--database-file", s.database)
	time.Sleep(3 * time.Second) // services look now and then
	hosts["gateway"].sendNumbers(201, 220)
	hosts["gateway"].allDelivered()
	s.hasEach(1, 220)

	expect(t, 3, "", "drain it first", "shelf", "remove", "north", "--database-file", s.database)
	expect(t, 0, "shelf north gives its feeds to others", "", "shelf", "drain", "north", "--database-file", s.database)
	hosts["gateway"].sendNumbers(221, 300)
	s.waitForLog("a feed lives on another shelf now")
	hosts["gateway"].sendNumbers(301, 400)
	for _, h := range hosts {
		h.allDelivered()
	}
	s.hasEach(1, 400)
	expect(t, 0, "north  drained      0", "", "shelf", "list", "--database-file", s.database)
	expect(t, 0, "in order", "", "store", "check", "--database-file", s.database)
	expect(t, 0, "shelf north is forgotten", "", "shelf", "remove", "north", "--database-file", s.database)
	north.Kill()
	time.Sleep(3 * time.Second) // services look now and then
	s.hasEach(1, 400)
}

// What cannot be a shelf is refused, with what to do.
func TestWhatCannotBeAShelf(t *testing.T) {
	t.Parallel()
	s, other := newStore(t), newStore(t)
	other.token("gateway", "write")
	bad := filepath.Join(s.dir, "bad")
	os.WriteFile(bad, []byte("oak:lantern@tcp(127.0.0.1:1)/oakbarrel\n"), 0o600)
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{3, "this database is the first shelf itself", []string{"add", "north", "--shelf-file", s.database}},
		{3, "this database is not empty", []string{"add", "north", "--shelf-file", other.database}},
		{3, "the database at 127.0.0.1:1", []string{"add", "north", "--shelf-file", bad}},
		{2, "cannot be the name of a shelf", []string{"add", "North Sea", "--shelf-file", bad}},
		{2, "write a size such as 2TiB", []string{"add", "north", "--shelf-file", bad, "--size", "much"}},
		{3, "there is no other shelf that takes its feeds", []string{"drain", "first"}},
		{3, "there is no shelf of that name", []string{"set", "west", "--size", "1TiB"}},
		{3, "there is no shelf of that name", []string{"remove", "west"}},
		{3, "tells of all others, and stays", []string{"remove", "first"}},
	} {
		_, stderr, code := run(t, append(append([]string{"shelf"}, c.args...), "--database-file", s.database)...)
		if code != c.code || !strings.Contains(stderr, c.want) || strings.Contains(stderr, "lantern") {
			t.Errorf("%v: exit code %d, %s", c.args, code, stderr)
		}
	}
	expect(t, 0, "first  in use", "", "shelf", "list", "--database-file", s.database)
}

// What a batch asks of the databases is the same however many shelves there are.
func TestABatchAsksTheSameWithAnotherShelf(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	north := s.addShelf("north")
	admin := s.token("*", "admin")
	token := s.token("gateway", "write")
	if _, stderr, code := s.ask(admin, "cask", "set", "gateway", "--shelf", "north"); code != 0 {
		t.Fatal(stderr)
	}
	h := s.host("gateway", token)
	h.start()
	h.sendNumbers(1, 10)
	h.allDelivered()
	sent := 10
	const batches = 60
	count := func(db *mariadb.Server, names ...string) (n int) {
		for _, name := range names {
			var value int
			fmt.Sscanf(strings.TrimPrefix(db.Ask("SHOW GLOBAL STATUS LIKE '"+name+"'"), name), "%d", &value)
			n += value
		}
		return n
	}
	// during tells what is asked while something is done: changes on the first shelf, selects
	// there, changes on the other.
	during := func(do func()) (all [3]float64, seconds float64) {
		look := func() [3]int {
			return [3]int{count(s.db, "Com_insert", "Com_update"), count(s.db, "Com_select"), count(north, "Com_insert", "Com_update", "Com_commit")}
		}
		before, began := look(), time.Now()
		do()
		for i, n := range look() {
			all[i] = float64(n - before[i])
		}
		return all, time.Since(began).Seconds()
	}
	asks := func() [3]float64 { // for the batches, without what is asked all the time
		idle, waited := during(func() { time.Sleep(6 * time.Second) })
		all, took := during(func() {
			for range batches {
				h.sendNumbers(sent+1, sent+10)
				sent += 10
				h.allDelivered()
			}
		})
		for i := range all {
			all[i] -= idle[i] / waited * took
		}
		return all
	}
	// What is asked all the time is no steady flow: of several measurements two that agree tell.
	var two, three [][3]float64
	for range 3 {
		two = append(two, asks())
	}
	s.addShelf("south")
	for range 4 {
		three = append(three, asks())
		for _, before := range two {
			apart := 0.0
			for i, n := range three[len(three)-1] {
				apart = max(apart, math.Abs(n-before[i]))
			}
			if apart <= batches/2 {
				return
			}
		}
	}
	t.Errorf("%d batches: changes and selects on the first shelf, changes on the other: %.0f, with a third shelf %.0f", batches, two, three)
}
