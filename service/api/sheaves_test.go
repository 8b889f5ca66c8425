package api_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/service/check"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
	"oakbarrel/service/shelf"
)

// about is a query with a condition.
func (s *shelved) about(where string) search.Query {
	s.t.Helper()
	c, err := condition.Parse(where, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	return search.Query{Condition: c}
}

// settle has nothing be merged any more of what is there.
func (s *shelved) settle() {
	s.t.Helper()
	for _, of := range s.shelves.All() {
		db, err := of.DB(s.t.Context())
		if err == nil {
			err = db.Model(&model.Block{}).Where("moving = 0").Update("settled", true).Error
		}
		if err != nil {
			s.t.Fatal(err)
		}
	}
}

// kept has all shelves put in order.
func (s *shelved) kept() {
	s.t.Helper()
	for _, k := range s.keepers("keeps") {
		for more := true; more; {
			var err error
			if more, err = k.Once(s.t.Context()); err != nil {
				s.t.Fatal(err)
			}
		}
	}
}

// drainFirst moves all feeds off the first shelf.
func (s *shelved) drainFirst() {
	s.t.Helper()
	if err := shelf.Drain(s.first, "first", true); err != nil {
		s.t.Fatal(err)
	}
	time.Sleep(2500 * time.Millisecond) // the service looks now and then
	for began := time.Now(); s.feedsOn()["first"] > 0 && time.Since(began) < time.Minute; {
		s.kept()
	}
	s.kept()
}

// bound returns how many blocks are in sheaves, and how many sheaves there are.
func (s *shelved) bound() (blocks, sheaves int64) {
	s.t.Helper()
	for _, of := range s.shelves.All() {
		var b, n int64
		db, err := of.DB(s.t.Context())
		if err == nil {
			err = errors.Join(db.Model(&model.Block{}).Where("sheaf_id <> 0").Count(&b).Error, db.Model(&model.Sheaf{}).Count(&n).Error)
		}
		if err != nil {
			s.t.Fatal(err)
		}
		blocks, sheaves = blocks+b, sheaves+n
	}
	return blocks, sheaves
}

// finds wants the same records by words as without their filters.
func (s *shelved) finds(what string) {
	s.t.Helper()
	for where, meets := range map[string]func(agent, n int) bool{
		`text has word "3-117"`:                          func(agent, n int) bool { return agent == 3 && n == 117 },
		`text has word "3-117" or text has word "1-5"`:   func(agent, n int) bool { return agent == 3 && n == 117 || agent == 1 && n == 5 },
		`text has word nowhere`:                          func(int, int) bool { return false },
		`text has word pressure`:                         func(int, int) bool { return true },
		`host is REEF-02 and not text has word pressure`: func(int, int) bool { return false },
		`text has word "2-9" and text has word pressure`: func(agent, n int) bool { return agent == 2 && n == 9 },
		`text has word "2-9" and facility is not kern`:   func(agent, n int) bool { return agent == 2 && n == 9 && n/8 != 0 },
		`host is kelp-01 or text has word "0-30"`:        func(agent, n int) bool { return agent == 0 && n == 30 },
	} {
		for _, oldest := range []bool{false, true} {
			q := s.about(where)
			q.OldestFirst = oldest
			got, err := s.texts(q)
			if err != nil {
				s.t.Fatal(err)
			}
			q.Condition = nil
			all, err := s.texts(q)
			if err != nil {
				s.t.Fatal(err)
			}
			want := slices.DeleteFunc(all, func(text string) bool {
				var agent, n int
				fmt.Sscanf(text, "%d-%d", &agent, &n)
				return !meets(agent, n)
			})
			if !slices.Equal(got, want) {
				s.t.Errorf("%s: %s finds %d records, not %d", what, where, len(got), len(want))
			}
		}
	}
}

// Filters are bound once nothing is merged with their blocks; what is found is the same before
// and after, and on all shelves, and a sheaf goes with the last of its blocks.
func TestFiltersAreBoundIntoSheaves(t *testing.T) {
	oneAtATime(t)
	s := newShelved(t, "north")
	for agent := range 4 {
		for n := range 80 {
			s.sent(agent, n*3+1, 3)
		}
	}
	s.finds("as it came")
	s.kept()
	if blocks, _ := s.bound(); blocks != 0 {
		t.Errorf("%d blocks are bound that may be merged still", blocks)
	}
	s.settle()
	s.kept()
	blocks, sheaves := s.bound()
	if blocks < 128 || sheaves < 2 || blocks/sheaves < 32 {
		t.Fatalf("%d blocks are in %d sheaves", blocks, sheaves)
	}
	var filters int64
	s.first.Model(&model.Block{}).Where("sheaf_id <> 0 AND words IS NOT NULL").Count(&filters)
	if filters != 0 {
		t.Errorf("%d filters stand twice", filters)
	}
	s.finds("bound")
	for agent := range 4 {
		s.sent(agent, 241, 3)
	}
	s.finds("some bound, some not")
	s.inOrder()

	s.drainFirst()
	s.finds("drained")
	s.inOrder()
	var left int64
	if s.first.Model(&model.SheafPart{}).Count(&left); left != 0 {
		t.Errorf("%d parts of sheaves are left on a shelf with nothing on it", left)
	}

	var all []model.Block
	north, err := s.shelves.All()[1].DB(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	north.Omit("payload").Find(&all)
	if err := ingest.Remove(north, all); err != nil {
		t.Fatal(err)
	}
	s.kept()
	if blocks, sheaves := s.bound(); blocks+sheaves != 0 {
		t.Errorf("%d blocks in %d sheaves are left", blocks, sheaves)
	}
}

// What a sheaf rules out is not opened; where the sheaf is not whole, or is of a version that
// nobody knows, all of its blocks are; and a check tells that it is not what it was.
func TestASheafThatIsDamagedRulesNothingOut(t *testing.T) {
	s := newShelved(t)
	for n := range 64 {
		s.sent(5, n*3+1, 3)
	}
	s.settle()
	s.kept()
	if blocks, _ := s.bound(); blocks != 64 {
		t.Fatalf("%d blocks are bound", blocks)
	}
	opened := func(where string) int64 {
		var n atomic.Int64
		q := s.about(where)
		q.Damaged = func(uint64, error) { n.Add(1) }
		if _, err := s.texts(q); err != nil {
			t.Fatal(err)
		}
		return n.Load()
	}
	told := func() int {
		report, err := check.Store(context.Background(), s.shelves, nil)
		if err != nil {
			t.Fatal(err)
		}
		return strings.Count(fmt.Sprint(report.Faults), "its filter is not")
	}
	if n := told(); n > 0 {
		t.Errorf("of %d filters it is told that they are others", n)
	}
	var part model.SheafPart
	s.first.Take(&part, "part = 0")
	whole := part.Cells
	for name, damaged := range map[string][]byte{"a bit": append([]byte{whole[0] ^ 1}, whole[1:]...), "its end": whole[:len(whole)-40], "all": nil} {
		s.first.Model(&part).Where("part = 0").Update("cells", damaged)
		if n := told(); n == 0 || name == "a bit" && n != 1 {
			t.Errorf("%s of a sheaf is another: %d filters are told", name, n)
		}
		s.first.Model(&part).Where("part = 0").Update("cells", whole)
	}
	if s.first.Exec("UPDATE blocks SET payload = 'x'"); opened("text has word nowhere") > 4 || opened(`text has word "5-9"`) < 1 {
		t.Errorf("%d blocks are opened for a word that is not there, %d for one that is", opened("text has word nowhere"), opened(`text has word "5-9"`))
	}
	s.first.Exec("UPDATE sheaves SET version = 9")
	if n := opened("text has word nowhere"); n != 64 {
		t.Errorf("%d blocks are opened of a version that nobody knows", n)
	}
	s.first.Exec("UPDATE sheaves SET version = 3")
	s.first.Exec("UPDATE sheaf_parts SET cells = 'short'")
	if n := opened("text has word nowhere"); n != 64 {
		t.Errorf("%d blocks are opened of a sheaf that is not whole", n)
	}
}

// A filter of which a part is missing is not bound, and keeps no others from it.
func TestAFilterThatIsNotWholeIsNotBound(t *testing.T) {
	s := newShelved(t)
	for n := range 66 {
		s.sent(5, n*3+1, 3)
	}
	var some []model.Block
	s.first.Omit("payload").Order("id").Limit(2).Find(&some)
	s.first.Model(&some[0]).Update("words", some[0].Words[:len(some[0].Words)-7])
	s.first.Model(&some[1]).Update("words", append([]byte{9}, some[1].Words[1:]...))
	long := append(some[0].Words[:1:1], make([]byte, 501*32)...) // of more groups than any sheaf takes
	s.sent(5, 199, 3)
	s.first.Model(&model.Block{}).Where("first_number = 199").Update("words", long)
	s.settle()
	s.kept()
	if blocks, _ := s.bound(); blocks != 64 {
		t.Errorf("%d blocks are bound", blocks)
	}
	if found, err := s.texts(s.about(`text has word "5-6"`)); err != nil || len(found) != 1 {
		t.Errorf("behind a filter of another version stands %q, %v", found, err)
	}
}

// A search looks at few blocks first; however the spans of blocks lie, it finds what there is,
// in order, each once, page by page, on one shelf and on two.
func TestASearchGoesOnBehindTheBlocksItLooksAtFirst(t *testing.T) {
	oneAtATime(t)
	t.Run("alone", func(t *testing.T) { lookAtManyBlocks(t, newShelved(t)) })
	t.Run("two", func(t *testing.T) { lookAtManyBlocks(t, newShelved(t, "north")) })
}

func lookAtManyBlocks(t *testing.T, s *shelved) {
	const blocks = 1200
	random := rand.New(rand.NewPCG(4, 11))
	for b := range blocks {
		first, apart := random.Int64N(1000), random.Int64N(400)
		agent, number := b%4, b/4*2+1
		if err := s.sendAt(agent, number, 2, func(n int) int64 { return first + int64(n-number)*apart }); err != nil {
			t.Fatal(err)
		}
	}
	for _, page := range []search.Query{{Limit: math.MaxInt}, {Limit: math.MaxInt, OldestFirst: true}, {Limit: 150}, {Limit: 150, OldestFirst: true}, {Limit: 700}} {
		page.Casks = []uint64{s.cask}
		seen := map[string]bool{}
		for last, came := int64(0), 1; came > 0; {
			came = 0
			if err := s.search.Search(t.Context(), page, func(h search.Hit) error {
				if last != 0 && h.Place.Time != last && (h.Place.Time > last) != page.OldestFirst {
					t.Fatalf("%+v: %d comes behind %d", page, h.Place.Time, last)
				}
				if seen[h.Place.String()] {
					t.Fatalf("%+v: a record comes twice", page)
				}
				last, seen[h.Place.String()], page.After = h.Place.Time, true, &h.Place
				came++
				return nil
			}); err != nil {
				t.Fatal(err)
			}
		}
		if len(seen) != 2*blocks {
			t.Errorf("%+v: %d records come", page, len(seen))
		}
	}
}
