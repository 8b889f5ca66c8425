package api_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/demo/mariadb"
	"oakbarrel/service/access"
	"oakbarrel/service/alerts"
	"oakbarrel/service/api"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/orders"
	"oakbarrel/service/plans"
	"oakbarrel/service/search"
	"oakbarrel/service/shelf"
)

// db is a real database, started once for all tests.
var db *gorm.DB

// socket is where its server is spoken to as root, dsn how it is reached.
var socket, dsn string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ob")
	if err != nil {
		panic(err)
	}
	server, err := mariadb.Start(context.Background(), dir)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.RemoveAll(dir)
		if os.Getenv("CI") != "" {
			os.Exit(1)
		}
		return
	}
	socket, dsn = filepath.Join(dir, "m.sock"), server.DSN
	if db, err = model.Open(server.DSN, slog.New(slog.DiscardHandler)); err != nil {
		panic(err)
	}
	code := m.Run()
	server.Kill()
	os.RemoveAll(dir)
	os.Exit(code)
}

// oneAtATime passes over a test in which nothing happens at the same time where data races are looked
// for: it takes long then, and finds none.
func oneAtATime(t *testing.T) {
	if os.Getenv("OAKBARREL_RACE") != "" {
		t.Skip("it has one thing done at a time")
	}
}

// fixture is a service with a cask of its own for each test.
type fixture struct {
	t      *testing.T
	server *httptest.Server
	api    *api.API
	cask   string
	write  *client.Client
	read   *client.Client

	readToken, writeToken string
	writers               map[string]*client.Client // of agents
}

// alone returns the database as the only shelf of its store.
func alone() *shelf.Set { return shelf.New(db, slog.New(slog.DiscardHandler)) }

func newFixture(t *testing.T) *fixture {
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	hub := &api.Hub{}
	shelves := alone()
	a := &api.API{DB: db, Shelves: shelves, Search: search.New(shelves), Orders: orders.New(ctx, db), Plans: &plans.Book{DB: db}, Hub: hub, Log: slog.New(slog.DiscardHandler), Feeds: ingest.NewFeeds(ctx, shelves, hub.Grown)}
	a.Alerts, a.Carrier = &alerts.Book{DB: db, Watch: &alerts.Watch{DB: db, Log: a.Log}}, &alerts.Carrier{DB: db, Log: a.Log, Holder: model.NewID(), Now: time.Now}
	f := &fixture{t: t, api: a, server: httptest.NewServer(a.Handler()), cask: strings.ToLower(t.Name())}
	t.Cleanup(f.server.Close)
	f.write, f.writeToken = f.client(access.Write)
	f.read, f.readToken = f.client(access.Read)
	return f
}

func (f *fixture) client(may string) (c *client.Client, token string) {
	token, err := access.NewToken(db, f.cask, may, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	if c, err = client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return token, nil }}); err != nil {
		f.t.Fatal(err)
	}
	return c, token
}

// agent is the id of one of the agents of this test.
func (f *fixture) agent(n int) string {
	sum := sha256.Sum256([]byte(f.t.Name()))
	return hex.EncodeToString(sum[:12]) + fmt.Sprintf("%08x", n)
}

// writer is the client of an agent, which has a token of its own.
func (f *fixture) writer(agent string) *client.Client {
	if f.writers[agent] == nil {
		if f.writers == nil {
			f.writers = map[string]*client.Client{}
		}
		f.writers[agent], _ = f.client(access.Write)
	}
	return f.writers[agent]
}

// pack makes a batch of records whose numbers begin with first.
func pack(first uint64, records []record.Record) (client.BatchHead, []byte) {
	var b block.Builder
	for i := range records {
		b.Add(first+uint64(i), &records[i])
	}
	payload := b.Finish(nil)
	hash := sha256.Sum256(payload)
	return client.BatchHead{Numbers: spool.Numbers{First: first, Last: first + uint64(len(records)) - 1}, Hash: hex.EncodeToString(hash[:])}, payload
}

func some(n int) (records []record.Record) {
	for i := range n {
		records = append(records, record.Record{Time: record.Stamp{Sec: 1795601700 + int64(i), Form: record.Zulu}, Priority: record.Priority(i % 192), Host: []byte("reef-02"), Text: fmt.Appendf(nil, "record %d", i)})
	}
	return records
}

func TestAFeedArrivesOnceAndInOrder(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	send := func(head client.BatchHead, payload []byte) (uint64, error) {
		answer, err := f.writer(f.agent(1)).SendBatch(ctx, f.agent(1), "centre", f.cask, head, payload)
		return answer.Confirmed, err
	}
	expect := func(what string, got, want uint64, err error) {
		t.Helper()
		if err != nil || got != want {
			t.Errorf("%s: confirmed %d, want %d: %v", what, got, want, err)
		}
	}
	confirmed, err := f.writer(f.agent(1)).Confirmed(ctx, f.agent(1), "centre", f.cask, "")
	expect("a new feed", confirmed, 0, err)
	head, payload := pack(1, some(10))
	for range 3 { // a repeat changes nothing
		confirmed, err = send(head, payload)
		expect("the first batch", confirmed, 10, err)
	}
	wrong := func(what string, first uint64, n int, want uint64) {
		t.Helper()
		var p *client.Problem
		if _, err := send(pack(first, some(n))); !errors.As(err, &p) || p.Status != http.StatusConflict || p.Expected != want {
			t.Errorf("%s: %v, want number %d expected", what, err, want)
		}
	}
	wrong("a gap", 12, 3, 11)
	wrong("cut in another way", 1, 5, 11)
	wrong("an overlap", 5, 20, 11)
	var p *client.Problem
	forked := some(10)
	forked[3].Text = []byte("something else")
	if _, err := send(pack(1, forked)); !errors.As(err, &p) || !strings.Contains(p.Detail, "forked") {
		t.Errorf("a fork: %v", err)
	}
	empty := sha256.Sum256(nil)
	confirmed, err = send(client.BatchHead{Numbers: spool.Numbers{First: 11, Last: 20, Shed: [8]int{7: 8}, Lost: 2}, Hash: hex.EncodeToString(empty[:])}, nil)
	expect("a hole that is declared", confirmed, 20, err)
	confirmed, err = send(pack(21, some(5)))
	expect("behind the hole", confirmed, 25, err)
	var records, shed int64
	db.Model(&model.Block{}).Joins("JOIN casks ON casks.id = blocks.cask_id").Where("casks.name = ?", f.cask).Select("SUM(records)").Scan(&records)
	db.Model(&model.Block{}).Where("shed <> ''").Count(&shed)
	if records != 15 || shed != 1 {
		t.Errorf("%d records, %d holes", records, shed)
	}
	counts, err := f.read.Count(ctx, client.Query{Cask: f.cask}, "severity", "", 20)
	if err != nil || counts.Total != 15 {
		t.Errorf("counts %+v, %v", counts, err)
	}
}

func TestWhatIsSentIsNotTrusted(t *testing.T) {
	f := newFixture(t)
	head, payload := pack(1, some(10))
	with := func(change func(h *client.BatchHead)) client.BatchHead { h := head; change(&h); return h }
	hashOf := func(b []byte) string { h := sha256.Sum256(b); return hex.EncodeToString(h[:]) }
	for name, c := range map[string]struct {
		head    client.BatchHead
		payload []byte
		status  int
	}{
		"another hash":      {with(func(h *client.BatchHead) { h.Hash = strings.Repeat("0", 64) }), payload, 422},
		"too few numbers":   {with(func(h *client.BatchHead) { h.Last = 9 }), payload, 422},
		"too many numbers":  {with(func(h *client.BatchHead) { h.Last = 11 }), payload, 422},
		"number 0":          {with(func(h *client.BatchHead) { h.First, h.Last = 0, 9 }), payload, 422},
		"negative holes":    {with(func(h *client.BatchHead) { h.Last, h.Shed[0], h.Lost = 10, -5, 5 }), payload, 422},
		"a damaged block":   {with(func(h *client.BatchHead) { h.Hash = hashOf(payload[:len(payload)-1]) }), payload[:len(payload)-1], 422},
		"no block":          {with(func(h *client.BatchHead) { h.Hash = hashOf(nil) }), nil, 422},
		"a block too large": {with(func(h *client.BatchHead) { h.Hash = "" }), make([]byte, 33<<20), 413},
	} {
		_, err := f.writer(f.agent(2)).SendBatch(context.Background(), f.agent(2), "centre", f.cask, c.head, c.payload)
		var p *client.Problem
		if !errors.As(err, &p) || p.Status != c.status || p.Detail == "" {
			t.Errorf("%s: %v, want status %d", name, err, c.status)
		}
	}
	if confirmed, err := f.writer(f.agent(2)).Confirmed(context.Background(), f.agent(2), "centre", f.cask, ""); confirmed != 0 || err != nil {
		t.Errorf("confirmed %d, %v", confirmed, err)
	}
}

func TestProblemsAreToldAsDetails(t *testing.T) {
	f := newFixture(t)
	for _, c := range []struct {
		method, path, token string
		status              int
	}{
		{"GET", "/api/v1/nothing", "", 404}, {"POST", "/nothing", "", 404}, {"DELETE", "/api/v1/casks", "", 405}, {"GET", "/api/v1/casks", "", 401}, {"GET", "/api/v1/casks", "ob_x", 401},
		{"POST", "/api/v1/feeds/" + f.agent(1) + "/x?cask=y", "", 401},
	} {
		request, _ := http.NewRequest(c.method, f.server.URL+c.path, nil)
		if c.token != "" {
			request.Header.Set("Authorization", "Bearer "+c.token)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		var p client.Problem
		json.NewDecoder(response.Body).Decode(&p)
		response.Body.Close()
		if response.StatusCode != c.status || p.Status != c.status || p.Detail == "" || response.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s: %s %+v", c.method, c.path, response.Status, p)
		}
	}
	var p *client.Problem
	for query, want := range map[client.Query]string{{Cask: "none"}: "there is no cask none", {Where: "loud"}: "where, column 1: 'loud'"} {
		if err := f.read.Read(context.Background(), query, client.Page{}, func([]byte) error { return nil }); !errors.As(err, &p) || !strings.HasPrefix(p.Detail, want) {
			t.Errorf("%+v: %v", query, err)
		}
	}
	if err := f.write.Read(context.Background(), client.Query{}, client.Page{}, func([]byte) error { return nil }); !errors.As(err, &p) || p.Status != 403 {
		t.Errorf("reading with a token for writing: %v", err)
	}
}

// Records of several feeds, whose times cross each other, come in one order
// both ways, whatever the blocks; pages fit together.
func TestSearchKeepsTheOrderOfTime(t *testing.T) {
	f := newFixture(t)
	rnd := rand.New(rand.NewPCG(1, 2))
	type key struct {
		time int64
		nsec int32
		feed int
		n    uint64
	}
	var all []key
	for feed := range 3 {
		next := uint64(1)
		for range 6 {
			records := some(1 + rnd.IntN(30))
			for i := range records {
				records[i].Time = record.Stamp{Sec: 1795601700 + rnd.Int64N(40), Nsec: int32(rnd.IntN(3)) * 500, Form: record.Zulu}
				records[i].Text = fmt.Appendf(nil, "%d/%d", feed, next+uint64(i))
				all = append(all, key{records[i].Time.Sec, records[i].Time.Nsec, feed, next + uint64(i)})
			}
			head, payload := pack(next, records)
			if _, err := f.writer(f.agent(10+feed)).SendBatch(context.Background(), f.agent(10+feed), "centre", f.cask, head, payload); err != nil {
				t.Fatal(err)
			}
			next = head.Last + 1
		}
	}
	slices.SortFunc(all, func(a, b key) int {
		if a.time != b.time {
			return int(a.time - b.time)
		}
		if a.nsec != b.nsec {
			return int(a.nsec - b.nsec)
		}
		if a.feed != b.feed {
			return a.feed - b.feed
		}
		return int(a.n) - int(b.n)
	})
	var want []string
	for _, k := range all {
		want = append(want, fmt.Sprintf("%d/%d", k.feed, k.n))
	}
	var cask model.Cask
	db.Where("name = ?", f.cask).Take(&cask)
	for _, oldest := range []bool{true, false} {
		for _, limit := range []int{1 << 20, 7} {
			var got []string
			q := search.Query{Casks: []uint64{cask.ID}, Limit: limit, OldestFirst: oldest}
			for {
				n := 0
				err := search.New(alone()).Search(context.Background(), q, func(h search.Hit) error {
					var r struct{ Text string }
					json.Unmarshal(h.JSON, &r)
					got = append(got, r.Text)
					n++
					place, err := search.ParsePlace(h.Place.String())
					q.After = place
					return err
				})
				if err != nil {
					t.Fatal(err)
				}
				if n < limit {
					break
				}
			}
			if !oldest {
				slices.Reverse(got)
			}
			if !slices.Equal(got, want) {
				t.Errorf("oldest first %v, %d at a time:\n got %v\nwant %v", oldest, limit, got, want)
			}
		}
	}
}

func TestOneRecordAmongMany(t *testing.T) {
	f := newFixture(t)
	next := uint64(1)
	for batch := range 20 {
		records := some(5000)
		if batch == 7 {
			records[1234].Text = []byte("the needle")
		}
		head, payload := pack(next, records)
		if _, err := f.writer(f.agent(3)).SendBatch(context.Background(), f.agent(3), "centre", f.cask, head, payload); err != nil {
			t.Fatal(err)
		}
		next = head.Last + 1
	}
	start := time.Now()
	var lines [][]byte
	err := f.read.Read(context.Background(), client.Query{Where: "text has word needle"}, client.Page{}, func(line []byte) error { lines = append(lines, bytes.Clone(line)); return nil })
	if err != nil || len(lines) != 1 || !bytes.Contains(lines[0], []byte("the needle")) {
		t.Errorf("%q, %v", lines, err)
	}
	t.Logf("found among 100,000 in %v", time.Since(start))
}

// session returns a client that has signed in with a role.
func (f *fixture) session(role string) *client.Client {
	f.t.Helper()
	name := strings.ToLower(f.t.Name()) + "-" + role
	if err := access.AddAccount(db, name, role, "lantern-light"); err != nil {
		f.t.Fatal(err)
	}
	return f.signIn(role)
}

// signIn returns a client that has signed in once more, with the account of a session.
func (f *fixture) signIn(role string) *client.Client {
	f.t.Helper()
	name := strings.ToLower(f.t.Name()) + "-" + role
	c, err := client.New(client.Options{URLs: []string{f.server.URL}})
	if err != nil {
		f.t.Fatal(err)
	}
	if a, err := c.SignIn(context.Background(), name, "lantern-light"); err != nil || a.Role != role || a.Name != name {
		f.t.Fatalf("%+v, %v", a, err)
	}
	return c
}

func TestRolesAndTokensMayDoWhatTheyAreFor(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	if _, err := f.writer(f.agent(7)).SendStatus(ctx, f.agent(7), client.AgentStatus{Host: "tide-gw", Status: client.Status{Host: "tide-gw"}}); err != nil {
		t.Fatal(err)
	}
	acts := []struct {
		name string
		do   func(c *client.Client) error
	}{
		{"read", func(c *client.Client) error { _, err := c.Casks(ctx); return err }},
		{"write", func(c *client.Client) error { _, err := c.Confirmed(ctx, f.agent(7), "centre", f.cask, ""); return err }},
		{"operate", func(c *client.Client) error {
			_, err := c.GiveOrder(ctx, f.agent(7), client.NewOrder{Kind: "test_record"})
			return err
		}},
		{"admin", func(c *client.Client) error {
			_, err := c.NewToken(ctx, client.NewToken{Cask: f.cask, May: "read"})
			return err
		}},
	}
	for _, who := range []struct {
		name string
		c    *client.Client
		may  string
	}{
		{"a token for reading", f.read, "read"}, {"a token for writing", f.writer(f.agent(7)), "write"}, {"a viewer", f.session("viewer"), "read"},
		{"an operator", f.session("operator"), "read operate"}, {"an admin", f.session("admin"), "read operate admin"},
	} {
		for _, act := range acts {
			err := act.do(who.c)
			var p *client.Problem
			if may := slices.Contains(strings.Fields(who.may), act.name); may != (err == nil) || !may && (!errors.As(err, &p) || p.Status != 403 || p.Mend == "") {
				t.Errorf("%s, %s: %v", who.name, act.name, err)
			}
		}
	}
}

func TestATokenIsMadeByAnAdmin(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	admin := f.session("admin")
	made, err := admin.NewToken(ctx, client.NewToken{Cask: "*", May: "admin", Label: "noor's machine"})
	if err != nil || !strings.HasPrefix(made.Token, "ob_") || made.Label != "noor's machine" {
		t.Fatalf("%+v, %v", made, err)
	}
	byToken, _ := client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return made.Token, nil }})
	if _, err := byToken.NewToken(ctx, client.NewToken{Cask: f.cask, May: "write"}); err != nil {
		t.Error(err)
	}
	for _, wrong := range []client.NewToken{{Cask: "two words", May: "read"}, {Cask: "x", May: "everything"}, {Cask: "x", May: "admin"}, {May: "read"}} {
		var p *client.Problem
		if _, err := admin.NewToken(ctx, wrong); !errors.As(err, &p) || p.Status != 400 || strings.Contains(p.Detail, "two words") {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	if err := admin.SignOut(ctx); err != nil {
		t.Error(err)
	}
	var p *client.Problem
	if _, err := admin.Casks(ctx); !errors.As(err, &p) || p.Status != 401 {
		t.Errorf("signed out: %v", err)
	}
}

func TestAnOrderWaitsForItsAgent(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	operator := f.session("operator")
	var p *client.Problem
	if _, err := operator.GiveOrder(ctx, f.agent(8), client.NewOrder{Kind: "test_record"}); !errors.As(err, &p) || p.Status != 404 {
		t.Errorf("an order for nobody: %v", err)
	}
	f.writer(f.agent(8)).SendStatus(ctx, f.agent(8), client.AgentStatus{Host: "tide-gw", Status: client.Status{}})
	if open, err := f.writer(f.agent(8)).WaitForOrders(ctx, f.agent(8), 0); err != nil || len(open) != 0 {
		t.Errorf("%v, %v", open, err)
	}
	came := make(chan []client.Order, 1)
	go func() {
		open, err := f.writer(f.agent(8)).WaitForOrders(ctx, f.agent(8), time.Minute)
		if err != nil {
			t.Error(err)
		}
		came <- open
	}()
	time.Sleep(50 * time.Millisecond) // until it waits
	given, err := operator.GiveOrder(ctx, f.agent(8), client.NewOrder{Kind: "test_record"})
	if err != nil {
		t.Fatal(err)
	}
	select {
	case open := <-came:
		if len(open) != 1 || open[0].ID != given.ID || !strings.HasSuffix(open[0].By, "-operator") {
			t.Errorf("%+v", open)
		}
	case <-time.After(900 * time.Millisecond): // sooner than the database is asked again
		t.Fatal("the order does not come at once")
	}
	f.writer(f.agent(9)).OrderDone(ctx, f.agent(9), given.ID, client.Outcome{Text: "of another agent"})
	if o, err := operator.Order(ctx, f.agent(8), given.ID); err != nil || o.Done != nil {
		t.Errorf("%+v, %v", o, err)
	}
	for _, text := range []string{"done", "done again"} {
		if err := f.writer(f.agent(8)).OrderDone(ctx, f.agent(8), given.ID, client.Outcome{Text: text, GoesTo: []string{"centre"}}); err != nil {
			t.Error(err)
		}
	}
	if o, err := operator.Order(ctx, f.agent(8), given.ID); err != nil || o.Done == nil || o.Outcome.Text != "done" || len(o.Outcome.GoesTo) != 1 {
		t.Errorf("%+v, %v", o, err)
	}
	if open, err := f.writer(f.agent(8)).WaitForOrders(ctx, f.agent(8), 0); err != nil || len(open) != 0 {
		t.Errorf("after it is done: %v, %v", open, err)
	}
	other, err := orders.New(ctx, db).Give(ctx, f.agent(8), client.NewOrder{Kind: "test_record"}, "amara") // another service before the same database
	open, waitErr := f.writer(f.agent(8)).WaitForOrders(ctx, f.agent(8), 10*time.Second)
	if err != nil || waitErr != nil || len(open) != 1 || open[0].ID != other.ID {
		t.Errorf("%v, %v, %v", open, err, waitErr)
	}
}

func TestPagesFitTogether(t *testing.T) {
	f := newFixture(t)
	head, payload := pack(1, some(25))
	if _, err := f.writer(f.agent(4)).SendBatch(context.Background(), f.agent(4), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	get := func(query string) (lines []string) {
		t.Helper()
		request, _ := http.NewRequest("GET", f.server.URL+"/api/v1/records?"+query, nil)
		request.Header.Set("Authorization", "Bearer "+f.readToken)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		b, _ := io.ReadAll(response.Body)
		if response.StatusCode != 200 {
			return []string{string(b)}
		}
		return strings.Split(strings.TrimSpace(string(b)), "\n")
	}
	var seen []string
	after := ""
	for page := range 4 {
		lines := get("limit=8&places=true&after=" + after)
		for _, line := range lines {
			var l struct {
				Place  string
				Record struct{ Text string }
			}
			if err := json.Unmarshal([]byte(line), &l); err != nil || l.Place == "" {
				t.Fatalf("%q: %v", line, err)
			}
			after, seen = l.Place, append(seen, l.Record.Text)
		}
		if want := min(8, 25-8*page); len(lines) != want {
			t.Errorf("page %d has %d lines", page, len(lines))
		}
	}
	for i, text := range seen {
		if text != fmt.Sprintf("record %d", 24-i) {
			t.Fatalf("%v", seen)
		}
	}
	for query, want := range map[string]string{"after=x": "not a place", "limit=0": "query.limit", "limt=5": "query.limt", "order=up": "query.order", "since=noon": "query.since"} {
		if got := get(query); !strings.Contains(got[0], want) || !strings.Contains(got[0], `"status":400`) {
			t.Errorf("%s: %s", query, got)
		}
	}
}

func TestTheInterfaceDescribesItself(t *testing.T) {
	f := newFixture(t)
	response, err := http.Get(f.server.URL + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var d struct {
		OpenAPI string
		Paths   map[string]map[string]any
	}
	if err := json.NewDecoder(response.Body).Decode(&d); err != nil || !strings.HasPrefix(d.OpenAPI, "3.1") {
		t.Fatalf("%+v, %v", d, err)
	}
	for _, operation := range []string{"get /api/v1/records", "post /api/v1/feeds/{agent}/{outlet}", "get /api/v1/feeds/{agent}/{outlet}", "post /api/v1/session", "get /healthz", "get /api/v1/agents/{agent}/orders"} {
		method, path, _ := strings.Cut(operation, " ")
		if d.Paths[path][method] == nil {
			t.Errorf("%s is not described", operation)
		}
	}
}

// ask posts JSON and decodes the answer.
func (f *fixture) ask(method, path string, body, answer any) int {
	f.t.Helper()
	b, _ := json.Marshal(body)
	request, _ := http.NewRequest(method, f.server.URL+"/api/v1"+path, bytes.NewReader(b))
	request.Header.Set("Authorization", "Bearer "+f.readToken)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		f.t.Fatal(err)
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(answer); err != nil {
		f.t.Fatal(err)
	}
	return response.StatusCode
}

func TestPlansAreLookedAtInTheService(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	const old = "oakbarrel: 1\nrules: [{name: errors, when: severity at least error, send: [all]}]\notherwise: {drop: true}\noutlets: {all: {file: {path: /var/log/lantern/all.log, keep: forever}}}\n"
	hash := sha256.Sum256([]byte(old))
	p := client.AgentPlan{Hash: hex.EncodeToString(hash[:]), Text: old}
	status := client.AgentStatus{Host: "tide-gw", PlanHash: p.Hash, Status: client.Status{}}
	if taken, err := f.writer(f.agent(20)).SendStatus(ctx, f.agent(20), status); err != nil || !taken.WantsPlan {
		t.Errorf("%+v, %v", taken, err)
	}
	if err := f.writer(f.agent(20)).SendPlan(ctx, f.agent(20), client.AgentPlan{Hash: p.Hash, Text: "another"}); err == nil {
		t.Error("a plan with another hash is taken")
	}
	if err := f.writer(f.agent(20)).SendPlan(ctx, f.agent(20), p); err != nil {
		t.Fatal(err)
	}
	if taken, err := f.writer(f.agent(20)).SendStatus(ctx, f.agent(20), status); err != nil || taken.WantsPlan {
		t.Errorf("%+v, %v", taken, err)
	}
	everything, err := access.NewToken(db, access.EveryCask, access.Read, "")
	if err != nil {
		t.Fatal(err)
	}
	var kept client.AgentPlan
	code, body := f.get(everything, "/agents/"+f.agent(20)+"/plan")
	if json.Unmarshal([]byte(body), &kept); code != 200 || kept != p {
		t.Errorf("%d, %s", code, body)
	}
	var checked client.CheckedPlan
	f.ask("POST", "/plans/check", client.PlanText{Text: old}, &checked)
	if len(checked.Findings) != 0 || len(checked.Cells) != 192 || !slices.Equal(checked.Outlets, []string{"all"}) || !slices.Equal(checked.Rules, []string{"errors"}) || len(checked.About) != 1 || checked.About[0] != strings.Repeat("22220000", 24) {
		t.Errorf("%+v", checked)
	}
	f.ask("POST", "/plans/check", client.PlanText{Text: strings.Replace(old, "error,", "eror,", 1)}, &checked)
	if len(checked.Findings) != 1 || checked.Findings[0].Line != 2 || checked.Findings[0].Kind != "error" || len(checked.Cells) != 0 {
		t.Errorf("%+v", checked)
	}
	var x struct {
		GoesTo []string `json:"goes_to"`
		Rules  []struct{ Matched bool }
		Detail string
	}
	for _, ask := range []client.ExplainPlan{{Text: old, Line: "<11>x: y"}, {Text: old, Record: map[string]any{"time": "2026-11-25T10:15:00Z", "severity": "alert"}}} {
		if code := f.ask("POST", "/plans/explain", ask, &x); code != 200 || !slices.Equal(x.GoesTo, []string{"all"}) || !x.Rules[0].Matched {
			t.Errorf("%d, %+v", code, x)
		}
	}
	if code := f.ask("POST", "/plans/explain", client.ExplainPlan{Text: "oakbarrel: 2\n", Line: "x"}, &x); code != 400 || !strings.Contains(x.Detail, "the plan has errors: line 1") {
		t.Errorf("%d, %+v", code, x)
	}
	head, payload := pack(1, some(192))
	if _, err := f.writer(f.agent(21)).SendBatch(ctx, f.agent(21), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	var c struct {
		Records, Same int
		Lost          int `json:"no_longer_kept"`
	}
	if code := f.ask("POST", "/plans/compare", client.ComparePlans{Old: old, New: strings.Replace(old, "error,", "alert,", 1), Cask: f.cask, Limit: 1000}, &c); code != 200 || c.Records != 192 || c.Lost != 48 || c.Same != 144 {
		t.Errorf("%d, %+v", code, c)
	}
	counts, err := f.read.Count(ctx, client.Query{Cask: f.cask}, "priority", "", 20)
	if err != nil || counts.Total != 192 || len(counts.By) != 192 || counts.By[0].Count != 1 {
		t.Errorf("%d of %d, %v", len(counts.By), counts.Total, err)
	}
}

// described is where the description of the interface is kept for the console,
// whose types are made of it.
const described = "../../console/openapi.json"

func TestTheConsoleKnowsTheInterface(t *testing.T) {
	f := newFixture(t)
	response, err := http.Get(f.server.URL + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	now, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	var pretty bytes.Buffer
	json.Indent(&pretty, now, "", " ")
	if os.Getenv("OAKBARREL_DESCRIBE") != "" {
		if err := os.WriteFile(described, pretty.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := os.ReadFile(described); err != nil || !bytes.Equal(kept, pretty.Bytes()) {
		t.Errorf("%s does not describe the interface as it is (%v); run: make describe", described, err)
	}
}
