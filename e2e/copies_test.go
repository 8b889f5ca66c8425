package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
)

// copyTo copies a folder as an administrator would: again, where a file went meanwhile.
func copyTo(t testing.TB, from, to string) {
	t.Helper()
	for tries := 5; ; tries-- {
		out, err := exec.Command("cp", "-a", from, to).CombinedOutput()
		if err == nil {
			return
		}
		if tries == 0 {
			t.Fatalf("%v: %s", err, out)
		}
		os.RemoveAll(to)
	}
}

// whileStopped does something with the folder of the database while that and the service
// are stopped.
func (s *store) whileStopped(do func(data string)) {
	s.t.Helper()
	s.kill()
	s.db.Stop()
	do(filepath.Join(s.dir, "db"))
	if err := s.db.Restart(context.Background()); err != nil {
		s.t.Fatal(err)
	}
	s.start()
}

// clone returns a host with the plan, the token and a copy of the state of another.
func (s *store) clone(h *host) *host {
	s.t.Helper()
	c := s.host("gateway", "")
	copyTo(s.t, h.state, c.state)
	copyTo(s.t, filepath.Join(h.dir, "token"), filepath.Join(c.dir, "token"))
	return c
}

// onAnotherMachine has a host run on a machine of its own.
func (h *host) onAnotherMachine(id string) {
	h.t.Helper()
	h.machine = filepath.Join(h.dir, "machine-id")
	if err := os.WriteFile(h.machine, []byte(id+"\n"), 0o644); err != nil {
		h.t.Fatal(err)
	}
	if err := exec.Command("unshare", "-m", "mount", "--bind", h.machine, "/etc/machine-id").Run(); err != nil {
		h.t.Skipf("another machine cannot be shown here: %v", err)
	}
}

// sendNumbers sends records whose texts are numbers.
func (h *host) sendNumbers(first, last int) {
	h.t.Helper()
	before := h.status().Outlets[0].In
	var messages []string
	for n := first; n <= last; n++ {
		messages = append(messages, fmt.Sprintf("<13>x: %d\n", n))
	}
	h.send("tcp", messages...)
	h.eventually("all that was sent is taken", func() bool {
		return h.status().Outlets[0].In == before+int64(len(messages))
	})
}

// stored returns how often each text is in a cask, and how often it is marked there.
func (s *store) stored(cask string) (times, marked map[string]int) {
	s.t.Helper()
	out, stderr, code := s.ask(s.token(cask, "read"), "read", "--cask", cask, "--since", "1h", "--limit", "1000000", "--output", "json")
	if code != 0 {
		s.t.Fatal(stderr)
	}
	times, marked = map[string]int{}, map[string]int{}
	for line := range strings.Lines(out) {
		var r struct {
			Text  string
			Twice bool `json:"maybe_twice"`
		}
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			s.t.Fatal(err)
		}
		times[r.Text]++
		if r.Twice {
			marked[r.Text]++
		}
	}
	return times, marked
}

// hasEach checks that the numbers are in the store, once, or where they are marked twice.
func (s *store) hasEach(first, last int) (twice int) {
	s.t.Helper()
	times, marked := s.stored("gateway")
	for n := first; n <= last; n++ {
		text := fmt.Sprint(n)
		switch {
		case times[text] == 0:
			s.t.Errorf("%d is not in the store", n)
		case times[text] > 1 && marked[text] < times[text]-1:
			s.t.Errorf("%d is there %d times, and marked %d times", n, times[text], marked[text])
		}
		twice += times[text] - 1
	}
	return twice
}

func (h *host) allDelivered() {
	h.t.Helper()
	h.eventually("all is delivered", func() bool {
		o := h.status().Outlets[0]
		return o.Held == 0 && o.Trouble == ""
	})
}

// waitsToBeLetIn tells, once a host is let in or waits for it, which of the two.
func (h *host) waitsToBeLetIn() bool {
	h.t.Helper()
	h.eventually("it is let in, or waits", func() bool {
		o := h.status().Outlets[0]
		return o.Held == 0 || strings.Contains(o.Trouble, "hosts adopt")
	})
	return h.status().Outlets[0].Held > 0
}

// adopt lets a host in that waits, as an admin does who looks at the list.
func (s *store) adopt(h *host) {
	s.t.Helper()
	id := h.status().AgentID
	admin := s.token("*", "admin")
	h.eventually("it waits to be let in", func() bool {
		out, _, _ := s.ask(admin, "hosts", "adopt", "--output", "json")
		return strings.Contains(out, id)
	})
	if out, stderr, code := s.ask(admin, "hosts", "adopt", id); code != 0 || !strings.Contains(out, "is let in") {
		s.t.Fatal(code, out, stderr)
	}
}

// A folder that is set back to an older copy loses nothing: what the store has is not
// sent again, and what is new gets new numbers.
func TestAFolderThatIsSetBackLosesNothing(t *testing.T) {
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	older := filepath.Join(h.dir, "older")
	h.start()
	id := h.status().AgentID
	h.sendNumbers(1, 100)
	h.allDelivered()
	copyTo(t, h.state, older) // while it runs
	for round, last := range []int{200, 300} {
		h.sendNumbers(last-99, last-50)
		h.allDelivered()
		h.stop()
		if round == 1 { // and once behind a restart
			h.start()
			h.sendNumbers(1000, 1000)
			h.allDelivered()
			h.stop()
		}
		os.RemoveAll(h.state)
		copyTo(t, older, h.state)
		h.start()
		h.sendNumbers(last-49, last)
		h.allDelivered()
		if twice := s.hasEach(1, last-51); twice != 0 {
			t.Errorf("%d records are there twice", twice)
		}
		s.hasEach(1, last)
	}
	st := h.status()
	if st.AgentID != id || len(st.Forks) != 1 || st.Forks[0].Mend != "" || !strings.Contains(st.Forks[0].What, "it was set back") {
		t.Errorf("%+v", st.Forks)
	}
	if out, _, _ := run(t, "status", "--state", h.state); !strings.Contains(out, "it was set back") {
		t.Errorf("status does not tell:\n%s", out)
	}
}

// A folder that is set back reads lines of files again that have arrived: each is in
// the store, and where it is there twice that is marked, and nothing else is.
func TestAFolderThatIsSetBackMarksWhatItReadsAgain(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	plan, err := os.ReadFile(h.plan)
	if err != nil {
		t.Fatal(err)
	}
	h.setPlan(strings.Replace(string(plan), "intakes: {", `intakes: {pumps: {files: {paths: ["DIR/pumps*.log"], from: beginning}}, `, 1))
	write := func(name string, first, last int) {
		f, err := os.OpenFile(filepath.Join(h.dir, name), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		for n := first; n <= last; n++ {
			fmt.Fprintln(f, n)
		}
	}
	delivered := func(n int64) {
		t.Helper()
		h.eventually(fmt.Sprintf("%d records are taken and delivered", n), func() bool {
			o := h.status().Outlets[0]
			return o.In >= n && o.Held == 0 && o.Trouble == ""
		})
	}
	write("pumps-a.log", 1, 100)
	h.start()
	delivered(100)
	h.stop()
	older := filepath.Join(h.dir, "older")
	copyTo(t, h.state, older)
	h.start()
	write("pumps-a.log", 101, 150)
	write("pumps-b.log", 201, 250)
	delivered(100)
	h.stop()
	os.RemoveAll(h.state)
	copyTo(t, older, h.state)
	h.start()
	write("pumps-a.log", 151, 200)
	write("pumps-b.log", 251, 300)
	delivered(200)
	s.hasEach(1, 300)
	h.within(15*time.Second, "what comes later is not marked", func() bool {
		h.sendNumbers(1000, 1000)
		h.allDelivered()
		times, marked := s.stored("gateway")
		return times["1000"] > marked["1000"]
	})
}

// A copy of a folder whose agent lives on the same machine becomes another agent
// before it sends anything. It holds what it has until it is let in; what both held
// is in the store, and nothing else twice.
func TestACopyBesideTheOriginalBecomesAnotherAgent(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.sendNumbers(1, 100)
	h.allDelivered()
	s.kill()
	h.sendNumbers(101, 120) // both hold these
	c := s.clone(h)
	c.start()
	if c.status().AgentID == h.status().AgentID {
		t.Fatal("the copy has the identity of the original")
	}
	c.sendNumbers(201, 250)
	h.sendNumbers(121, 150)
	s.start()
	h.allDelivered()
	c.eventually("the copy says that it is one, and what to do", func() bool {
		return strings.Contains(c.status().Outlets[0].Trouble, "hosts adopt "+c.status().AgentID)
	})
	if o := c.status().Outlets[0]; o.Out != 0 {
		t.Errorf("the copy sends before it is let in: %+v", o)
	}
	out, _, code := run(t, "doctor", "--plan", c.plan, "--state", c.state)
	if code != 1 || !strings.Contains(out, "another agent of this machine has the identity") {
		t.Errorf("the doctor says %d:\n%s", code, out)
	}
	s.adopt(c)
	c.allDelivered()
	h.sendNumbers(151, 200)
	c.sendNumbers(251, 300)
	h.allDelivered()
	c.allDelivered()
	if twice := s.hasEach(1, 100) + s.hasEach(121, 300); twice != 0 {
		t.Errorf("%d records are there twice", twice)
	}
	s.hasEach(101, 120)
	became := c.status().AgentID
	c.stop()
	c.start() // what it became it stays
	c.sendNumbers(301, 310)
	c.allDelivered()
	if now := c.status().AgentID; now != became {
		t.Errorf("it was %s, and is %s", became, now)
	}
	s.hasEach(301, 310)
}

// A copy that is made before the store was ever reached marks what both held, too.
func TestACopyThatWasMadeBeforeTheFirstContactIsMarked(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	s.kill()
	h.start()
	h.sendNumbers(1, 20)
	c := s.clone(h)
	c.start()
	c.sendNumbers(21, 40)
	s.start()
	h.allDelivered()
	c.waitsToBeLetIn()
	s.adopt(c)
	c.allDelivered()
	s.hasEach(1, 20)
	if twice := s.hasEach(21, 40); twice != 0 {
		t.Errorf("%d records of the copy alone are there twice", twice)
	}
}

// What an agent has taken in since it began, without a contact yet, a copy may hold too.
func TestACopyOfAnAgentWithoutALeaseIsMarked(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.sendNumbers(1, 10)
	h.allDelivered()
	h.stop()
	token, away := filepath.Join(h.dir, "token"), filepath.Join(h.dir, "token.away")
	os.Rename(token, away)
	h.start()
	h.sendNumbers(11, 30) // in a run that has no lease
	os.Rename(away, token)
	c := s.clone(h)
	os.Rename(token, away)
	c.onAnotherMachine(strings.Repeat("c", 32))
	c.start()
	c.sendNumbers(31, 40)
	c.allDelivered() // it has the identity
	os.Rename(away, token)
	h.sendNumbers(41, 50)
	if h.waitsToBeLetIn() {
		s.adopt(h)
	}
	h.allDelivered()
	if h.status().AgentID == c.status().AgentID {
		t.Error("both have one identity")
	}
	s.hasEach(1, 30)
	if twice := s.hasEach(31, 50); twice != 0 {
		t.Errorf("%d records of one alone are there twice", twice)
	}
}

// Of copies on other machines one keeps the identity; the others become other agents
// at the first contact. Nothing is lost, and what two held is marked.
func TestCopiesOnOtherMachines(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.sendNumbers(1, 100)
	h.allDelivered()
	id := h.status().AgentID
	s.kill()
	h.sendNumbers(101, 120)
	h.stop()
	machines := []*host{h}
	for i := range 2 {
		c := s.clone(h)
		c.onAnotherMachine(strings.Repeat(fmt.Sprint(i), 32))
		machines = append(machines, c)
	}
	for i, m := range machines {
		m.start()
		m.sendNumbers(1000*(i+1)+1, 1000*(i+1)+50) // before the first contact
	}
	s.start()
	var ids []string
	for _, m := range machines {
		waits := m.waitsToBeLetIn()
		if waits {
			s.adopt(m)
		}
		ids = append(ids, m.status().AgentID)
	}
	slices.Sort(ids)
	if len(slices.Compact(slices.Clone(ids))) != 3 || !slices.Contains(ids, id) {
		t.Errorf("the agents are %v, the original was %s", ids, id)
	}
	for i, m := range machines {
		m.sendNumbers(1000*(i+1)+51, 1000*(i+1)+100)
		m.allDelivered()
	}
	for i := range machines {
		if twice := s.hasEach(1000*(i+1)+1, 1000*(i+1)+100); twice != 0 {
			t.Errorf("%d records of one alone are there twice", twice)
		}
	}
	if twice := s.hasEach(1, 100); twice != 0 {
		t.Errorf("%d records are there twice", twice)
	}
	s.hasEach(101, 120)
}

// Hosts that start from one image, whose invitation was for several, are let in at once.
func TestHostsFromOneImageAreLetIn(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	admin := s.token("*", "admin")
	out, stderr, code := s.ask(admin, "hosts", "invite", "--cask", "gateway", "--uses", "3")
	if code != 0 {
		t.Fatal(stderr)
	}
	image := s.host("gateway", "")
	if _, stderr, code := run(t, "accept", strings.TrimSpace(out), "--state", image.state, "--token-file", filepath.Join(image.dir, "token")); code != 0 {
		t.Fatal(stderr)
	}
	var hosts []*host
	for i := range 4 {
		c := s.clone(image)
		c.onAnotherMachine(strings.Repeat(fmt.Sprint(i), 32))
		c.start()
		c.sendNumbers(100*i+1, 100*i+50)
		hosts = append(hosts, c)
	}
	held := 0
	for _, c := range hosts {
		waits := c.waitsToBeLetIn()
		if waits {
			held++
			s.adopt(c)
			c.allDelivered()
		}
	}
	if held != 1 {
		t.Errorf("%d hosts wait, where the invitation was for 3 of 4", held)
	}
	for i := range hosts {
		if twice := s.hasEach(100*i+1, 100*i+50); twice != 0 {
			t.Errorf("%d records are there twice", twice)
		}
	}
}

// A database that is restored from an older copy loses what came since: the agent
// sends again what it has still, and declares the rest.
func TestADatabaseThatIsSetBackIsTold(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.sendNumbers(1, 100)
	h.allDelivered()
	older := filepath.Join(s.dir, "older")
	s.whileStopped(func(data string) { copyTo(t, data, older) })
	h.sendNumbers(101, 200)
	h.allDelivered()
	s.whileStopped(func(data string) { os.RemoveAll(data); copyTo(t, older, data) })
	h.sendNumbers(201, 300)
	h.allDelivered()
	if twice := s.hasEach(1, 100) + s.hasEach(201, 300); twice != 0 {
		t.Errorf("%d records are there twice", twice)
	}
	out, _, _ := s.ask(s.token("gateway", "read"), "cask", "show", "gateway", "--output", "json")
	var cask client.CaskAndFeeds
	if err := json.Unmarshal([]byte(out), &cask); err != nil || len(cask.Feeds) != 1 {
		t.Fatal(err, out)
	}
	times, _ := s.stored("gateway")
	again := int64(0)
	for n := 101; n <= 200; n++ {
		again += int64(times[fmt.Sprint(n)])
	}
	if f := cask.Feeds[0]; f.Records+f.Lost != 300 || f.Lost != 100-again {
		t.Errorf("%+v, of the lost hundred %d came again", f, again)
	}
	if forks := h.status().Forks; len(forks) != 1 || !strings.Contains(forks[0].What, "its database was set back") {
		t.Errorf("%+v", forks)
	}
}

// What a folder had delivered before it was set back is told as lost, too, where the
// database is set back afterwards: no folder has it any more.
func TestADatabaseThatIsSetBackBehindAFolderIsTold(t *testing.T) {
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.sendNumbers(1, 100)
	h.allDelivered()
	h.stop()
	dump, older := filepath.Join(s.dir, "dump"), filepath.Join(h.dir, "older")
	s.whileStopped(func(data string) { copyTo(t, data, dump) })
	copyTo(t, h.state, older)
	h.start()
	h.sendNumbers(101, 200)
	h.allDelivered()
	h.stop()
	os.RemoveAll(h.state)
	copyTo(t, older, h.state)
	h.start()
	h.sendNumbers(201, 300)
	h.allDelivered()
	s.whileStopped(func(data string) { os.RemoveAll(data); copyTo(t, dump, data) })
	h.sendNumbers(301, 400)
	h.allDelivered()
	out, _, _ := s.ask(s.token("gateway", "read"), "cask", "show", "gateway", "--output", "json")
	var cask client.CaskAndFeeds
	if err := json.Unmarshal([]byte(out), &cask); err != nil || len(cask.Feeds) != 2 {
		t.Fatal(err, out)
	}
	times, _ := s.stored("gateway")
	var records, lost int64
	for _, f := range cask.Feeds {
		records, lost = records+f.Records, lost+f.Lost
	}
	if records+lost != 400 || int(records) != len(times) || lost < 100 {
		t.Errorf("%d records, %d lost, %d different: %+v", records, lost, len(times), cask.Feeds)
	}
	if forks := h.status().Forks; !slices.ContainsFunc(forks, func(f client.ForkStatus) bool {
		return strings.Contains(f.What, "numbers 101 to 200 of the time before")
	}) {
		t.Errorf("%+v", forks)
	}
}

// An outlet that is sent to another cask goes on there with what it has, and back.
func TestAnOutletThatGoesToAnotherCaskLosesNothing(t *testing.T) {
	s := newStore(t)
	s.token("reef", "read")
	s.token("gateway", "read") // so that they are there
	h := s.host("gateway", s.token("*", "write"))
	plan, err := os.ReadFile(h.plan)
	if err != nil {
		t.Fatal(err)
	}
	h.start()
	for i, cask := range []string{"gateway", "reef", "gateway", "reef"} {
		h.setPlan(strings.Replace(string(plan), "cask: gateway", "cask: "+cask, 1))
		h.reload()
		h.sendNumbers(100*i+1, 100*i+100)
		h.allDelivered()
	}
	gateway, _ := s.stored("gateway")
	reef, _ := s.stored("reef")
	for n := 1; n <= 400; n++ {
		times := []int{gateway[fmt.Sprint(n)], reef[fmt.Sprint(n)]}
		if in := (n - 1) / 100 % 2; times[in] != 1 || times[1-in] != 0 {
			t.Fatalf("%d is %v times in the casks", n, times)
		}
	}
	out, _, _ := s.ask(s.token("*", "read"), "cask", "show", "gateway", "--output", "json")
	var cask client.CaskAndFeeds
	if err := json.Unmarshal([]byte(out), &cask); err != nil || slices.ContainsFunc(cask.Feeds, func(f client.Feed) bool { return f.Lost > 0 }) {
		t.Errorf("%v: %+v", err, cask.Feeds)
	}
	if forks := h.status().Forks; len(forks) > 0 {
		t.Errorf("%+v", forks)
	}
}
