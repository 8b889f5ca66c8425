package api_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gorm.io/gorm"

	"oakbarrel/core/record"
	"oakbarrel/service/check"
	"oakbarrel/service/ingest"
	"oakbarrel/service/keep"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
	"oakbarrel/service/shelf"
)

// shelved is a store with several shelves, as one service has it.
type shelved struct {
	t       *testing.T
	first   *gorm.DB
	shelves *shelf.Set
	feeds   *ingest.Feeds
	search  *search.Store
	cask    uint64
}

// newShelved makes a store whose other shelves have these names.
func newShelved(t *testing.T, names ...string) *shelved {
	t.Helper()
	open := func(dsn string) *gorm.DB {
		db, err := model.Open(dsn, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			pool, _ := db.DB()
			pool.Close()
		})
		return db
	}
	s := &shelved{t: t, first: open(emptyDatabase(t))}
	for _, name := range names {
		if _, err := shelf.Add(s.first, name, databaseNamed(t, strings.ToLower(strings.ReplaceAll(t.Name(), "/", "_"))+"_"+name), 1<<40); err != nil {
			t.Fatal(err)
		}
	}
	cask, err := model.CaskNamed(s.first, "gateway")
	if err != nil {
		t.Fatal(err)
	}
	s.cask = cask.ID
	return s.again()
}

// again is another service before the same store.
func (s *shelved) again() *shelved {
	s.t.Helper()
	o := *s
	ctx, cancel := context.WithCancel(context.Background())
	s.t.Cleanup(cancel)
	var err error
	if o.shelves, err = shelf.Open(ctx, s.first, slog.New(slog.NewTextHandler(s.t.Output(), nil))); err != nil {
		s.t.Fatal(err)
	}
	go o.shelves.Run(ctx)
	o.feeds, o.search = ingest.NewFeeds(ctx, o.shelves, func([]uint64) {}), search.New(o.shelves)
	return &o
}

func (s *shelved) key(agent int) ingest.FeedKey {
	return ingest.FeedKey{CaskID: s.cask, AgentID: fmt.Sprintf("%032x", agent), Outlet: "centre"}
}

// send sends a batch of an agent, whose records tell agent and number.
func (s *shelved) send(agent, first, n int) error {
	return s.sendAt(agent, first, n, func(number int) int64 { return int64(number) })
}

// sendAt sends a batch whose records are of these seconds.
func (s *shelved) sendAt(agent, first, n int, second func(number int) int64) error {
	var records []record.Record
	for i := range n {
		number := first + i
		records = append(records, record.Record{Time: record.Stamp{Sec: 1795600800 + second(number), Form: record.Zulu}, Priority: record.Priority(number % 192), Host: []byte("reef-02"), Text: fmt.Appendf(nil, "%d-%d pressure", agent, number)})
	}
	head, payload := pack(uint64(first), records)
	b := &ingest.Batch{FeedKey: s.key(agent), Numbers: head.Numbers, Hash: sha256.Sum256(payload), Payload: payload}
	if err := b.Open(); err != nil {
		return err
	}
	_, err := s.feeds.Take(context.Background(), b)
	return err
}

// sent sends it, and wants it to be taken.
func (s *shelved) sent(agent, first, n int) {
	s.t.Helper()
	if err := s.send(agent, first, n); err != nil {
		s.t.Fatal(err)
	}
}

// texts reads all records.
func (s *shelved) texts(q search.Query) (all []string, err error) {
	q.Casks, q.Limit = []uint64{s.cask}, math.MaxInt
	err = s.search.Search(context.Background(), q, func(h search.Hit) error {
		var r struct{ Text string }
		if err := json.Unmarshal(h.JSON, &r); err != nil {
			return err
		}
		all = append(all, r.Text)
		return nil
	})
	return all, err
}

// keepers returns a keeper for each shelf, as one service has them.
func (s *shelved) keepers(holder string) map[string]*keep.Keeper {
	all := map[string]*keep.Keeper{}
	for _, of := range s.shelves.All() {
		all[of.Name()] = &keep.Keeper{Shelves: s.shelves, Shelf: of, Log: slog.New(slog.DiscardHandler), Now: time.Now, Holder: holder}
	}
	return all
}

func (s *shelved) inOrder() {
	s.t.Helper()
	report, err := check.Store(context.Background(), s.shelves, nil)
	if err != nil || len(report.Faults) > 0 || len(report.Missing) > 0 {
		s.t.Errorf("%+v, %v", report, err)
	}
}

func (s *shelved) feedsOn() map[string]int64 {
	s.t.Helper()
	all, err := s.shelves.List(context.Background())
	if err != nil {
		s.t.Fatal(err)
	}
	on := map[string]int64{}
	for _, told := range all {
		on[told.Name] = told.Feeds
	}
	return on
}

// Feeds are spread over shelves, and answers are those of all of them.
func TestFeedsAreSpreadOverShelves(t *testing.T) {
	s := newShelved(t, "north", "south")
	for agent := range 9 {
		s.sent(agent, 1, 50)
		s.sent(agent, 51, 50)
	}
	if on := s.feedsOn(); !maps.Equal(on, map[string]int64{"first": 3, "north": 3, "south": 3}) {
		t.Errorf("feeds live on %v", on)
	}
	at, err := s.search.Now(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	all, err := s.texts(search.Query{})
	if err != nil || len(all) != 900 || all[0] != "8-100 pressure" || all[899] != "0-1 pressure" {
		t.Errorf("%d records, %q: %v", len(all), all[:1], err)
	}
	if !slices.IsSortedFunc(all, func(a, b string) int { return after(b) - after(a) }) {
		t.Error("they are not in order")
	}
	total, _, err := s.search.CountBy(t.Context(), search.Query{Casks: []uint64{s.cask}}, "severity")
	if err != nil || total != 900 {
		t.Errorf("%d are counted: %v", total, err)
	}
	other := s.again()
	for agent := range 9 {
		other.sent(agent, 101, 1) // by another service, which has to find them
	}
	var came []string
	err = s.search.Since(t.Context(), search.Query{Casks: []uint64{s.cask}, Limit: math.MaxInt, OldestFirst: true}, at, func(h search.Hit) error {
		came = append(came, string(h.JSON))
		return nil
	})
	if err != nil || len(came) != 9 {
		t.Errorf("%d came since: %v", len(came), err)
	}
	s.inOrder()
}

// after returns the number of a record, as its text tells it.
func after(text string) (n int) {
	var agent int
	fmt.Sscanf(text, "%d-%d", &agent, &n)
	return n
}

// While shelves drain, feeds are written to and read: at any time each record that is
// confirmed is there once, and is counted once, whatever ends in between.
func TestAShelfDrainsWhileItIsWrittenAndRead(t *testing.T) {
	s := newShelved(t, "north", "south")
	const agents = 6
	var mu sync.Mutex
	confirmed, begun := 0, 0 // of all agents together
	note := func(to *int, n int) int {
		mu.Lock()
		defer mu.Unlock()
		*to += n
		return *to
	}
	for agent := range agents {
		for n := range 30 {
			s.sent(agent, n*10+1, 10)
			note(&confirmed, 10)
			note(&begun, 10)
		}
	}
	ending := make(chan struct{})
	var working sync.WaitGroup
	services := []*shelved{s, s.again()}
	for agent := range agents {
		working.Go(func() {
			pause := 150 * time.Millisecond
			for n := 301; ; n += 10 {
				select {
				case <-ending:
					return
				case <-time.After(pause):
				}
				pause += 10 * time.Millisecond // however slow the machine is, it is not given ever more to move
				note(&begun, 10)
				for {
					err := services[n/10%2].send(agent, n, 10)
					if err == nil {
						break
					}
					if !errors.Is(err, ingest.ErrMoved) {
						t.Error(err)
						return
					}
				}
				note(&confirmed, 10)
			}
		})
	}
	var looks, counts int
	working.Go(func() {
		for {
			select {
			case <-ending:
				return
			default:
			}
			least := note(&confirmed, 0)
			all, err := services[looks%2].texts([]search.Query{{}, s.about("text has word pressure")}[looks/2%2])
			most := note(&begun, 0)
			if err != nil {
				t.Error(err)
				return
			}
			different := map[string]bool{}
			for _, text := range all {
				different[text] = true
			}
			if len(different) != len(all) || len(all) < least || len(all) > most {
				t.Errorf("%d records, %d different; there are %d to %d", len(all), len(different), least, most)
				return
			}
			looks++
		}
	})
	working.Go(func() {
		for {
			select {
			case <-ending:
				return
			default:
			}
			least := int64(note(&confirmed, 0))
			total, _, err := s.search.CountBy(t.Context(), search.Query{Casks: []uint64{s.cask}}, "severity")
			if most := int64(note(&begun, 0)); err != nil || total < least || total > most {
				t.Errorf("%d are counted of %d to %d: %v", total, least, most, err)
				return
			}
			counts++
		}
	})
	drained := func(name string) bool {
		return s.feedsOn()[name] == 0
	}
	rnd := rand.New(rand.NewPCG(7, 20))
	breaks := 0
	for _, name := range []string{"first", "north", "south"} {
		if err := shelf.Drain(s.first, name, true); err != nil {
			t.Fatal(err)
		}
		for _, other := range []string{"first", "north", "south"} {
			if other != name {
				if err := shelf.Drain(s.first, other, false); err != nil {
					t.Fatal(err)
				}
			}
		}
		s.settle()                          // so that filters are bound meanwhile, and what is bound moves
		time.Sleep(2500 * time.Millisecond) // services look now and then
		for began := time.Now(); !drained(name); breaks++ {
			if time.Since(began) > 5*time.Minute {
				t.Fatalf("%s is not drained: %v", name, s.feedsOn())
			}
			ctx, cancel := context.WithTimeout(t.Context(), time.Duration(rnd.IntN(200+20*breaks))*time.Millisecond)
			services[breaks%2].keepers("drains")[name].Once(ctx) // which ends anywhere
			cancel()
		}
	}
	close(ending)
	working.Wait()
	t.Logf("%d records, %d times broken off, read whole %d times, counted %d times", confirmed, breaks, looks, counts)
	for _, k := range s.keepers("drains") {
		if _, err := k.Once(t.Context()); err != nil {
			t.Error(err)
		}
	}
	all, err := s.texts(search.Query{})
	if err != nil || len(all) != confirmed {
		t.Errorf("%d records of %d: %v", len(all), confirmed, err)
	}
	s.inOrder()
}

// Who reads comes to an end however fast things move from shelf to shelf, and what moves
// goes on afterwards.
func TestReadersComeToAnEndWhileMuchMoves(t *testing.T) {
	s := newShelved(t, "north")
	for agent := range 4 {
		s.sent(agent, 1, 100)
	}
	ending := make(chan struct{})
	var held atomic.Int64
	var moving sync.WaitGroup
	moving.Go(func() {
		for {
			select {
			case <-ending:
				return
			default:
			}
			if err := shelf.Note(s.first); errors.Is(err, shelf.ErrHeld) {
				held.Add(1)
				time.Sleep(10 * time.Millisecond)
			} else if err != nil {
				t.Error(err)
				return
			}
		}
	})
	began := time.Now()
	for n := 0; n < 3 || held.Load() == 0 && time.Since(began) < 30*time.Second; n++ {
		if all, err := s.texts(search.Query{}); err != nil || len(all) != 400 {
			t.Errorf("%d records: %v", len(all), err)
		}
		if total, _, err := s.search.CountBy(t.Context(), search.Query{Casks: []uint64{s.cask}}, "severity"); err != nil || total != 400 {
			t.Errorf("%d are counted: %v", total, err)
		}
	}
	close(ending)
	moving.Wait()
	if held.Load() == 0 {
		t.Error("nothing was held")
	}
	for began := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		if err := shelf.Note(s.first); err == nil {
			break
		}
		if time.Since(began) > 10*time.Second {
			t.Fatal("nothing moves any more")
		}
	}
}
