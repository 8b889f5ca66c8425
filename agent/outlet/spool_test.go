package outlet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/spool"
)

// scriptedService answers as a test wants: it is a store in memory, with errors before it.
type scriptedService struct {
	mu     sync.Mutex
	errors []error // the next answers
	poison string  // what no block may have in its texts
	faulty bool    // it fails at such a block, where it refuses it otherwise
	start  time.Time
	took
}

// took is what the service has got.
type took struct {
	tries     []time.Duration
	confirmed uint64
	records   int
	heads     []client.BatchHead
	link      string

	generation string
}

func (s *scriptedService) seen() took {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.took
}

// A compressor that is used in several bubbles of time has to be made outside of them.
func TestMain(m *testing.M) {
	var b block.Builder
	b.Add(1, &record.Record{})
	b.Finish(nil)
	os.Exit(m.Run())
}

func (s *scriptedService) next() error {
	s.tries = append(s.tries, time.Since(s.start))
	if len(s.errors) == 0 {
		return nil
	}
	err := s.errors[0]
	s.errors = s.errors[1:]
	return err
}

func (s *scriptedService) Lease(_ context.Context, _, _, _, generation string, asks client.Lease) (client.Leased, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if generation != s.generation { // a feed that begins anew
		s.generation, s.confirmed, s.link = generation, asks.Confirmed, ""
	}
	return client.Leased{Store: "store", Confirmed: s.confirmed, Link: s.link}, s.next()
}

func (s *scriptedService) Join(context.Context, string, client.Join) (client.Accepted, error) {
	return client.Accepted{}, errors.New("nobody joins here")
}

// self is an agent whose folder is no copy.
type self struct{}

func (self) AgentID() string { return strings.Repeat("0", 32) }
func (self) Run() string     { return strings.Repeat("1", 32) }
func (self) Machine() string { return "" }
func (self) BecomeAnother(string, client.ForkStatus) error {
	return errors.New("there is no other identity here")
}
func (self) AddFork(client.ForkStatus)   {}
func (self) KeepToken(_, _ string) error { return nil }
func (self) ForgetToken() bool           { return false }

func (s *scriptedService) SendBatch(ctx context.Context, agent, outlet, cask string, head client.BatchHead, payload []byte) (client.Confirmed, error) {
	confirmed, err := s.take(ctx, head, payload)
	if err != nil {
		return client.Confirmed{}, err
	}
	return client.Confirmed{Confirmed: confirmed, Link: client.LinkOf(head.Previous, head)}, nil
}

func (s *scriptedService) take(ctx context.Context, head client.BatchHead, payload []byte) (uint64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.next(); err != nil {
		return 0, err
	}
	for range 200 { // as the service does: one that has overtaken another waits for it
		if head.First <= s.confirmed+1 {
			break
		}
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		s.mu.Unlock()
		time.Sleep(10 * time.Millisecond)
		s.mu.Lock()
	}
	s.heads = append(s.heads, head)
	if head.First != s.confirmed+1 {
		return 0, &client.Problem{Status: 409, Detail: "another number is expected", Expected: s.confirmed + 1}
	}
	if head.Previous != s.link {
		return 0, &client.Problem{Status: 409, Detail: "this feed has forked", Lease: true}
	}
	if s.poison != "" && len(payload) > 0 {
		content, err := block.Decode(payload)
		var texts []byte
		if err == nil {
			texts, err = content.Texts()
		}
		if err == nil && bytes.Contains(texts, []byte(s.poison)) {
			if s.faulty {
				return 0, &client.RetryLater{Err: &client.Problem{Status: 500, Fault: true, Detail: "the block cannot be read"}}
			}
			return 0, &client.Problem{Status: 422, Detail: "the block cannot be read"}
		}
	}
	if len(payload) > 0 {
		s.records += int(head.Last-head.First) + 1
	}
	s.confirmed, s.link = head.Last, client.LinkOf(head.Previous, head)
	return s.confirmed, nil
}

// testOutlet runs a store outlet in a bubble of time, with chance in the middle.
type testOutlet struct {
	*Spool
	service *scriptedService
	sent    int
}

func newTestOutlet(t *testing.T, d disk.Disk, dir string, service *scriptedService) *testOutlet {
	sp, err := spool.Open(d, dir, 1<<20, func(spool.Damage) {})
	if err != nil {
		t.Fatal(err)
	}
	settings := plan.Outlet{Name: "centre", Kind: "store", Store: plan.Store{Cask: "gateway"}, Spool: plan.Spool{Disk: 1 << 30, Records: 100, Bytes: 1 << 20, Delay: time.Second}}
	service.start = time.Now()
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	if err := sp.BeginRun(self{}.Run()); err != nil {
		t.Fatal(err)
	}
	o := spoolOn(sp, settings, nil, log, func() {})
	o.road = &storeRoad{service: service, self: self{}, run: self{}.Run(), spool: sp, outlet: "centre", cask: "gateway", log: log, heldAgain: o.holdAgain, allRead: func() bool { return true }}
	o.refusals = refusals{disk.OS, filepath.Join(t.TempDir(), "centre.jsonl")}
	o.retry.chance = func(below time.Duration) time.Duration { return below / 2 }
	go o.Run()
	return &testOutlet{o, service, 0}
}

func (o *testOutlet) give(n int) {
	var b record.Batch
	for range n {
		o.sent++
		r := b.Next()
		r.Priority, r.Text = record.DefaultPriority, fmt.Appendf(nil, "%d", o.sent)
	}
	o.Take(&b, markAll(&b), 0, true)
}

// markAll marks all records for outlet 0.
func markAll(b *record.Batch) *route.Routing {
	table := route.NewTable(nil, route.Otherwise{Send: []int{0}}, 1)
	m := new(route.Routing)
	table.Route(b, m)
	return m
}

func (o *testOutlet) end() {
	o.Stop(time.Now().Add(time.Second))
	synctest.Wait()
}

// pass lets time pass, until everybody waits again.
func pass(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

func TestASenderTriesAgainLessAndLessOften(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		down := &client.RetryLater{Err: errors.New("connection refused")}
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{errors: slices.Repeat([]error{down}, 10)})
		defer o.end()
		o.give(3)
		pass(time.Millisecond)
		if s := o.Status(); s.Trouble != "connection refused" || s.TroubleSince == nil {
			t.Errorf("%+v", s)
		}
		pass(5 * time.Minute)
		want := []time.Duration{0, 250, 750, 1750, 3750, 7750, 15750, 31750, 61750, 91750, 121750}
		for i, w := range want {
			if i >= len(o.service.seen().tries) || o.service.seen().tries[i] != w*time.Millisecond {
				t.Fatalf("tried after %v, want %v ms", o.service.seen().tries, want)
			}
		}
		if s := o.Status(); s.Trouble != "" || s.Out != 3 || s.Held != 0 {
			t.Errorf("once the store is there: %+v", s)
		}
		if o.retry.next != 0 {
			t.Error("after a delivery the waiting does not begin anew")
		}
	})
}

func TestTheTimesBetweenTriesVary(t *testing.T) {
	down := &client.RetryLater{Err: errors.New("down")}
	for share, want := range map[float64]time.Duration{0: firstRetry / 2, 0.999: firstRetry/2 + 249750*time.Microsecond} {
		b := backoff{chance: func(below time.Duration) time.Duration { return time.Duration(share * float64(below)) }}
		if got := b.after(down); got != want {
			t.Errorf("chance %v: %v, want %v", share, got, want)
		}
	}
}

func TestASenderWaitsAsLongAsTheStoreAsks(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		busy := &client.RetryLater{After: 90 * time.Second, Err: errors.New("too many requests")}
		refused := &client.Problem{Status: 403, Detail: "the token may read, not write"}
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{errors: []error{busy, refused, refused}})
		defer o.end()
		pass(5 * time.Minute)
		want := []time.Duration{0, 90 * time.Second, 95 * time.Second, 100 * time.Second}
		tries := o.service.seen().tries
		if len(tries) < len(want) || !slices.Equal(tries[:len(want)], want) { // later it asks again, as nothing comes
			t.Errorf("tried after %v, want %v", tries, want)
		}
	})
}

func TestABatchWaitsForMore(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{})
		defer o.end()
		pass(10 * time.Second)
		for range 3 {
			o.give(1)
			pass(300 * time.Millisecond)
		}
		pass(2 * time.Second)
		o.give(250)
		pass(100 * time.Millisecond) // two are full and do not wait
		if n := len(o.service.seen().heads); n != 3 {
			t.Errorf("%d batches: %+v", n, o.service.seen().heads)
		}
		pass(2 * time.Second)
		if n := len(o.service.seen().heads); n != 4 || o.service.seen().heads[0].Last != 3 || o.service.seen().records != 253 {
			t.Errorf("%d batches, %d records: %+v", n, o.service.seen().records, o.service.seen().heads)
		}
	})
}

// A store that was restored from an older copy expects numbers that are gone
// here; one that is ahead has taken a batch whose answer was lost.
func TestASenderGoesOnWhereTheStoreIs(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{})
		defer o.end()
		o.give(10)
		pass(10 * time.Second)
		o.service.mu.Lock()
		o.service.confirmed = 4 // the copy
		o.service.mu.Unlock()
		o.give(10)
		pass(10 * time.Second)
		var lost []client.BatchHead
		for _, h := range o.service.seen().heads {
			if h.Lost > 0 {
				lost = append(lost, h)
			}
		}
		if len(lost) != 1 || lost[0].First != 5 || lost[0].Lost != 6 {
			t.Errorf("declared as lost: %+v", lost)
		}
		if s := o.Status(); o.service.seen().confirmed != 20 || s.Trouble != "" || s.Held != 0 || s.Difference() != 0 {
			t.Errorf("confirmed %d, %+v", o.service.seen().confirmed, s)
		}
	})
	synctest.Test(t, func(t *testing.T) { // the same folder again, at a store that never was
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{took: took{confirmed: 300}})
		defer o.end()
		o.give(1)
		pass(10 * time.Second)
		if s := o.Status(); !strings.Contains(s.Trouble, "up to number 300") || s.Held != 1 {
			t.Errorf("%+v", s)
		}
	})
}

// Where somebody else writes under the very run of an agent, as a machine does that was
// copied while it ran, that is found out at the next batch, and nothing is lost.
func TestATwinIsFoundOut(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{})
		defer o.end()
		o.give(10)
		pass(10 * time.Second)
		o.service.mu.Lock()
		o.service.confirmed, o.service.link = 15, "of the twin's batch"
		o.service.mu.Unlock()
		o.give(10) // of which the twin's five have the numbers
		pass(10 * time.Second)
		took := o.service.seen()
		last := took.heads[len(took.heads)-1]
		if s := o.Status(); took.records != 20 || s.Out != 20 || s.Held != 0 || s.Trouble != "" {
			t.Errorf("%d records, %+v", took.records, s)
		}
		if took.generation == "" || last.First != 11 || last.Last != 20 || !last.Twice || last.Run == (self{}).Run() {
			t.Errorf("generation %q, %+v", took.generation, last)
		}
	})
}

// A record that the other side never takes is found by halves, written down
// with the reason, and told as refused; all others arrive.
// Also one that makes the service fail is left out, after three tries.
func TestARecordThatIsRefusedDoesNotStopTheRoad(t *testing.T) {
	refused, faulty := t.TempDir(), t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		leaveOneOut(t, refused, &scriptedService{poison: "<37>"})
		leaveOneOut(t, faulty, &scriptedService{poison: "<37>", faulty: true})
	})
}

func leaveOneOut(t *testing.T, dir string, service *scriptedService) {
	o := newTestOutlet(t, disk.OS, dir, service)
	defer o.end()
	var b record.Batch
	for n := range 90 {
		r := b.Next()
		r.Priority, r.Text = record.DefaultPriority, fmt.Appendf(nil, "<%d>", n)
	}
	o.Take(&b, markAll(&b), 0, true)
	pass(time.Minute)
	s := o.Status()
	if s.Out != 89 || s.Refused != 1 || s.Held != 0 || s.Difference() != 0 || s.Trouble != "" || o.service.seen().records != 89 {
		t.Errorf("%d records, %+v", o.service.seen().records, s)
	}
	refused := 0
	for _, h := range o.service.seen().heads {
		refused += h.Refused
	}
	line, err := os.ReadFile(o.refusals.path)
	if err != nil || refused != 1 || bytes.Count(line, []byte("\n")) != 1 || !bytes.Contains(line, []byte(`"why":"the block cannot be read"`)) || !bytes.Contains(line, []byte(`"text":"<37>"`)) {
		t.Errorf("%d refused, %v: %s", refused, err, line)
	}
	o.give(200)
	pass(10 * time.Second)
	if heads := o.service.seen().heads; o.most != 0 || o.service.seen().records != 289 {
		t.Errorf("the batches stay small: %+v", heads[len(heads)-1])
	}
}

func TestStatusTellsSinceWhenRecordsWaitAndWhenTheNextTryIs(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		start := time.Now()
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{errors: []error{&client.RetryLater{After: time.Minute, Err: errors.New("too many requests")}}})
		defer o.end()
		o.give(1)
		pass(10 * time.Second)
		o.give(1)
		pass(10 * time.Second)
		s := o.Status()
		if s.HeldSince == nil || s.HeldSince.Sub(start) > time.Second || s.NextTry == nil || !s.NextTry.Equal(start.Add(time.Minute)) {
			t.Errorf("%+v", s)
		}
		pass(time.Minute)
		if s = o.Status(); s.HeldSince != nil || s.NextTry != nil || s.Held != 0 {
			t.Errorf("once all is delivered: %+v", s)
		}
	})
}

func TestAnOutletWhoseSpoolCannotShrinkGoesOn(t *testing.T) {
	dir := t.TempDir()
	var full atomic.Bool
	d := &disktest.Disk{Fault: func(_ int, op, path string) error {
		if full.Load() && strings.Contains(path, "state.memo") {
			return disktest.ErrFault
		}
		return nil
	}}
	chunks := func() int {
		names, _ := filepath.Glob(filepath.Join(dir, "*.chunk"))
		return len(names)
	}
	synctest.Test(t, func(t *testing.T) {
		o := newTestOutlet(t, d, dir, &scriptedService{})
		defer o.end()
		full.Store(true)
		for range 3 {
			o.give(5)
			pass(5 * time.Second)
		}
		if s := o.Status(); s.Out != 15 || s.Held != 0 || !strings.Contains(s.Trouble, "fault") || s.TroubleSince == nil || chunks() == 0 {
			t.Errorf("with a disk that takes nothing: %+v, %d chunks", s, chunks())
		}
		full.Store(false)
		pass(5 * time.Second)
		if s := o.Status(); s.Trouble != "" || chunks() != 0 {
			t.Errorf("with room again: %+v, %d chunks", s, chunks())
		}
	})
}

func TestAnOutletThatLeavesDeliversFirst(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		down := &client.RetryLater{Err: errors.New("down")}
		o := newTestOutlet(t, disk.OS, dir, &scriptedService{errors: []error{down, down, down}})
		o.give(5)
		o.Leave()
		pass(time.Second)
		if o.finished() {
			t.Error("it left with records that it owed")
		}
		pass(time.Minute)
		if !o.finished() || o.service.seen().records != 5 {
			t.Errorf("delivered %d", o.service.seen().records)
		}
	})
}
