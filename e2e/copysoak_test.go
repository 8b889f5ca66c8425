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
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/spool"
)

// copies is a fleet whose machines are copied and set back, or whose store's database
// is set back, beside forgers and uploads that never end.
type copies struct {
	*store
	rnd    *rand.Rand
	hosts  []*host
	older  map[*host]string // a copy of its state
	sent   int              // the last number
	did    map[string]int
	dump   string // a copy of the database, "" for none
	forger *client.Client
}

// OAKBARREL_SOAK sets for how long, half of it with folders, half with the database. In
// the end each numbered record is in the store, once or marked, or the feeds declare as
// many lost as are missing; and nothing of the forgers is there.
func TestSoakCopies(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("it takes its time: OAKBARREL_SOAK=60s make soak SOAK=TestSoakCopies")
	}
	for name, chaos := range map[string]func(*copies, *host){"folders": (*copies).hurtFolders, "database": (*copies).setDatabaseBack} {
		t.Run(name, func(t *testing.T) { soakCopies(t, span/2, chaos) })
	}
}

func soakCopies(t *testing.T, span time.Duration, chaos func(*copies, *host)) {
	c := &copies{store: newStore(t), rnd: rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 2)), older: map[*host]string{}, did: map[string]int{}}
	for range 3 {
		h := c.host("gateway", c.token("gateway", "write"))
		h.start()
		c.hosts = append(c.hosts, h)
		c.send(h)
	}
	stolen := c.token("gateway", "write")
	c.forger, _ = client.New(client.Options{URLs: []string{c.url()}, Token: func() (string, error) { return stolen, nil }})
	if _, err := c.forger.Confirmed(context.Background(), strings.Repeat("e", 32), "centre", "gateway", ""); err != nil { // it is that of another host
		t.Fatal(err)
	}
	for end := time.Now().Add(span); time.Now().Before(end); {
		h := c.hosts[c.rnd.IntN(len(c.hosts))]
		switch what := c.rnd.IntN(100); {
		case what < 50:
			c.send(h)
		case what < 75:
			chaos(c, h)
		case what < 84:
			c.forge(h)
		case what < 90:
			c.upload()
		case what < 93:
			c.did["service killed"]++
			c.kill()
			c.send(h)
			c.start()
		default:
			c.adoptAll()
		}
	}
	c.settle()
	c.compare()
	t.Logf("%d records of %d hosts, %v", c.sent, len(c.hosts), c.did)
}

func (c *copies) send(h *host) {
	first := c.sent + 1
	c.sent += 1 + c.rnd.IntN(50)
	h.sendNumbers(first, c.sent)
}

func (c *copies) hurtFolders(h *host) {
	switch what := c.rnd.IntN(10); {
	case what < 5:
		c.keep(h)
	case what < 9:
		c.setBack(h)
	default:
		c.copy(h)
	}
}

// keep copies the state of a host, while it runs.
func (c *copies) keep(h *host) {
	c.did["state kept"]++
	older := filepath.Join(h.dir, "older")
	os.RemoveAll(older)
	copyTo(c.t, h.state, older)
	c.older[h] = older
}

// setBack sets the state of a host back. What it had not delivered would go with it.
func (c *copies) setBack(h *host) {
	if c.older[h] == "" {
		return
	}
	h.within(30*time.Second, "all is delivered", func() bool {
		o := h.status().Outlets[0]
		c.letIn(o.Trouble)
		return o.Held == 0
	})
	c.did["set back"]++
	h.stop()
	os.RemoveAll(h.state)
	copyTo(c.t, c.older[h], h.state)
	h.start()
}

// copy makes another host of one, half of the time on another machine.
func (c *copies) copy(h *host) {
	if len(c.hosts) >= 8 {
		return
	}
	c.did["copied"]++
	other := c.clone(h)
	if c.rnd.IntN(2) == 0 {
		other.onAnotherMachine(fmt.Sprintf("%032x", len(c.hosts)))
	}
	other.start()
	c.hosts = append(c.hosts, other)
	c.send(other)
}

// forge tries to speak for a host with the token of another one.
func (c *copies) forge(h *host) {
	c.did["forged"]++
	ctx, id := context.Background(), h.status().AgentID
	head := client.BatchHead{Numbers: spool.Numbers{First: 1, Last: 1_000_000, Lost: 1_000_000}, Hash: "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}
	_, declared := c.forger.SendBatch(ctx, id, "centre", "gateway", head, nil)
	_, leased := c.forger.Lease(ctx, id, "centre", "gateway", "", client.Lease{Run: strings.Repeat("f", 32), First: 1})
	_, status := c.forger.SendStatus(ctx, id, client.AgentStatus{Host: "forged", Status: client.Status{Host: "forged"}})
	for what, err := range map[string]error{"a loss": declared, "a lease": leased, "a status": status} {
		if err == nil {
			c.t.Errorf("a forger has its way with %s", what)
		}
	}
}

// upload begins a batch that never ends.
func (c *copies) upload() {
	c.did["uploads that do not end"]++
	token, err := os.ReadFile(filepath.Join(c.hosts[0].dir, "token"))
	if err != nil {
		c.t.Fatal(err)
	}
	conn, err := net.Dial("tcp", c.address)
	if err != nil {
		return
	}
	c.t.Cleanup(func() { conn.Close() })
	fmt.Fprintf(conn, "POST /api/v1/feeds/%s/slow?cask=gateway HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n\r\nxx", c.hosts[0].status().AgentID, strings.TrimSpace(string(token)), 32<<20)
}

const replace = "oakbarrel hosts replace "

// letIn does what a host's trouble says that an admin is to do.
func (c *copies) letIn(trouble string) {
	switch {
	case strings.Contains(trouble, "hosts adopt"):
		c.adoptAll()
	case strings.Contains(trouble, replace):
		c.did["replaced"]++
		_, of, _ := strings.Cut(trouble, replace) // the agent has become another since, or will
		if err := c.admin().Replace(context.Background(), of[:32], client.Replace{Minutes: 5}); err != nil {
			c.t.Fatalf("%v: %s", err, trouble)
		}
	}
}

func (c *copies) adoptAll() {
	admin := c.admin()
	waiting, err := admin.Joinings(context.Background())
	if err != nil {
		c.t.Fatal(err)
	}
	for _, w := range waiting {
		c.did["adopted"]++
		if err := admin.Adopt(context.Background(), w.AgentID); err != nil {
			c.t.Fatal(err)
		}
	}
}

func (c *copies) admin() *client.Client {
	token := c.token("*", "admin")
	admin, err := client.New(client.Options{URLs: []string{c.url()}, Token: func() (string, error) { return token, nil }})
	if err != nil {
		c.t.Fatal(err)
	}
	return admin
}

// setDatabaseBack keeps a copy of the database at first, and goes back to it later.
func (c *copies) setDatabaseBack(*host) {
	c.whileStopped(func(data string) {
		dump := filepath.Join(c.dir, "dump")
		if c.dump == "" {
			c.did["database kept"]++
			copyTo(c.t, data, dump)
			c.dump = dump
			return
		}
		c.did["database set back"]++
		os.RemoveAll(data)
		copyTo(c.t, dump, data)
	})
}

// settle has all hosts deliver what they hold.
func (c *copies) settle() {
	for _, h := range c.hosts {
		h.within(90*time.Second, "all is delivered", func() bool {
			o := h.status().Outlets[0]
			c.letIn(o.Trouble)
			return o.Held == 0 && o.Trouble == ""
		})
	}
}

func (c *copies) compare() {
	lost := c.lost()
	if c.did["database set back"] > 0 { // a host that has nothing to send finds it out within a minute
		c.hosts[0].within(70*time.Second, "what is missing is declared", func() bool {
			times, _ := c.stored("gateway")
			lost = c.lost()
			return len(times)+int(lost) >= c.sent
		})
	}
	times, marked := c.stored("gateway")
	missing, wrong := 0, 0
	for n := 1; n <= c.sent; n++ {
		text := fmt.Sprint(n)
		if times[text] == 0 {
			missing++
		}
		if over := times[text] - 1; over > 0 && marked[text] < over && wrong < 10 {
			c.t.Errorf("%s is there %d times, and marked %d times", text, times[text], marked[text])
			wrong++
		}
	}
	if missing > int(lost) || c.did["database set back"] == 0 && missing+int(lost) > 0 {
		c.t.Errorf("%d records are missing, %d are declared lost", missing, lost)
	}
	expect(c.t, 0, "in order", "", "store", "check", "--database-file", c.database)
}

// lost is how many records the feeds declare as lost; none is of a forger.
func (c *copies) lost() (lost int64) {
	out, _, _ := c.ask(c.token("gateway", "read"), "cask", "show", "gateway", "--output", "json")
	var cask client.CaskAndFeeds
	if err := json.Unmarshal([]byte(out), &cask); err != nil {
		c.t.Fatal(err, out)
	}
	for _, f := range cask.Feeds {
		lost += f.Lost
		if f.Host == "forged" {
			c.t.Error("a forger is in the store")
		}
	}
	return lost
}
