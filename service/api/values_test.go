package api_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"

	"oakbarrel/core/record"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// fieldsAtRandom are fields as programs, and those who mean harm, may send them.
func fieldsAtRandom(random *rand.Rand) string {
	forms := []string{
		"", "",
		`[tank@32473 ph="8.%d" id="%d"]`,
		`[tank@32473 ph="8.%d" ph="7"][pump@32473 state="on"]`,
		`[tank@32473]`,
		`{"tank@32473":{"ph":8.%d,"id":"%d"},"state":"on"}`,
		`{"tank@32473":{"ph":null,"id":true,"id":"second"}}`,
		`{"tank@32473":[{"ph":1}],"state":{"of":"pump","is":""}}`,
		`{"a":{"b":{"c":"x%d"}}}`,
		`{"a.b":{"c":"y%d"},"a":{"b.c":"never"}}`,
		`{"a.b":"scalar","a":{"b":{"c":"hidden"}}}`,
		`{"state":"say \"on\"","seq":1%d%d}`,
		`{"journal@32473":{"unit":"pumpd-%d.service"}}`,
	}
	form := forms[random.IntN(len(forms))]
	var parts []any
	for at, c := range form {
		if c == '%' && form[at+1] == 'd' {
			parts = append(parts, random.IntN(9))
		}
	}
	return fmt.Sprintf(form, parts...)
}

func recordsWithFields(random *rand.Rand, n int) (records []record.Record) {
	records = randomRecords(random, n)
	for i := range records {
		r := &records[i]
		if data := fieldsAtRandom(random); data != "" {
			r.Data = []byte(data)
		}
		r.Cut = random.IntN(20) == 0
		if random.IntN(2) == 0 {
			r.MsgID = fmt.Appendf(nil, "M%d", random.IntN(4))
		}
		r.Intake = []string{"", "wire", "socket"}[random.IntN(3)]
	}
	return records
}

// countedBy are what records may be counted by, some of it with names that part ways.
var countedBy = [][2]string{
	{"msgid"}, {"intake"}, {"unit"}, {"field", "tank@32473.ph"}, {"field", "tank@32473.id"}, {"field", "tank@32473"}, {"field", "state"}, {"field", "state.of"}, {"field", "state.is"},
	{"field", "a.b.c"}, {"field", `a."b.c"`}, {"field", `"a.b".c`}, {"field", "a"}, {"field", "a.b"}, {"field", "seq"}, {"field", "nowhere"}, {"field", "tank@32473.ph.deeper"}, {"field", "cut@32473"}, {"field", "state.of.pump"},
}

// countsValues wants values to be counted as where all blocks are opened.
func (s *shelved) countsValues(what string, wheres ...string) {
	s.t.Helper()
	for _, where := range append(wheres, "host is reef-02") {
		for _, by := range countedBy {
			of, err := search.ValueOf(by[0], by[1])
			if err != nil {
				s.t.Fatal(err)
			}
			q := search.Query{Casks: []uint64{s.cask}, Since: 1795600800e6 + 123, Until: 1795609000e6, Condition: s.about(where).Condition}
			total, others, top, err := s.search.TopValues(s.t.Context(), q, of, 7)
			q.Condition = s.about("(" + where + ") and (text exists or text missing)").Condition
			total2, others2, top2, err2 := s.search.TopValues(s.t.Context(), q, of, 7)
			if err != nil || err2 != nil || total != total2 || others != others2 || !slices.Equal(top, top2) {
				s.t.Errorf("%s: where %s, by %v: %d, %d, %v, and not %d, %d, %v: %v, %v", what, where, by, total, others, top, total2, others2, top2, err, err2)
			}
		}
	}
}

// grownOld has all blocks be old enough to be settled, and keeps them.
func (s *shelved) grownOld() {
	s.t.Helper()
	if err := s.first.Exec("UPDATE blocks SET arrived = arrived - 86400000000").Error; err != nil {
		s.t.Fatal(err)
	}
	s.kept()
}

// Counts by the values of fields are those of the records, however they lie in blocks: as they
// came, settled, of an earlier version, with something that cannot be read beside them, and
// on another shelf.
func TestValuesAreCountedAsByHand(t *testing.T) {
	oneAtATime(t)
	s, random := newShelved(t, "north"), rand.New(rand.NewPCG(21, 3))
	for agent := range 3 {
		for n := range uint64(8) {
			s.sentRecords(agent, n*100+1, recordsWithFields(random, 100))
		}
	}
	s.countsValues("as it came")
	s.grownOld()
	var beside int64
	s.first.Model(&model.Block{}).Where("LENGTH(field_values) > 100").Count(&beside)
	if beside == 0 {
		t.Error("nothing of values stands beside any block")
	}
	s.countsValues("settled", "any", "severity at most notice", `shape is "valve V7 reached its end" or facility is mail`)
	s.inOrder()
	s.first.Exec("UPDATE blocks SET field_values = NULL")
	s.countsValues("of an earlier version")
	s.kept()
	var left int64
	s.first.Model(&model.Block{}).Where("settled = 1 AND field_values IS NULL").Count(&left)
	if left > 0 {
		t.Errorf("beside %d settled blocks nothing stands of their values", left)
	}
	s.countsValues("described")
	s.inOrder()
	for _, harm := range []string{"CONCAT(CHAR(1), CHAR(3), field_values)", "CONCAT(CHAR(9), field_values)", "LEFT(field_values, 90)", "CONCAT(field_values, CHAR(0))", "''", "REPEAT(CHAR(1), 3)"} {
		s.first.Exec("UPDATE blocks SET field_values = " + harm)
		s.countsValues(harm)
	}
	s.first.Exec("UPDATE blocks SET field_values = NULL")
	s.kept()
	s.drainFirst()
	s.countsValues("moved")
	s.inOrder()
}

// Of settled blocks within a span none is opened to count by a field of few values, but where it
// has many, or leads to different places.
func TestValuesAreCountedWithoutOpeningBlocks(t *testing.T) {
	s, random := newShelved(t), rand.New(rand.NewPCG(21, 4))
	for n := range uint64(3) {
		records := randomRecords(random, 1000)
		for i := range records {
			records[i].Data = fmt.Appendf(nil, `{"tank":"T%d","at":{"dock":%d},"ref":%d,"two.ways":{"x":1},"two":{"ways.x":2},"list":[1]}`, i%20, i%3, i)
		}
		s.sentRecords(1, n*1000+1, records)
	}
	s.grownOld()
	if err := s.first.Exec("UPDATE blocks SET payload = 'x'").Error; err != nil {
		t.Fatal(err)
	}
	for field, values := range map[string]int{"tank": 20, "at.dock": 3, "missing": 1, "ref": 0, "two.ways.x": 0, "list": 0, "at": 0} {
		q := s.about("severity at least debug")
		q.Casks, q.Since, q.Until = []uint64{s.cask}, 1795600000e6, 1795700000e6
		var opened atomic.Int64
		q.Damaged = func(uint64, error) { opened.Add(1) }
		by, _ := search.ValueOf("field", field)
		total, _, top, err := s.search.TopValues(t.Context(), q, by, 100)
		if err != nil || len(top) != values || (opened.Load() == 0) != (values > 0) || values > 0 && total != 3000 {
			t.Errorf("%s: %d records of %d values, and not %d; %d blocks are opened, %v", field, total, len(top), values, opened.Load(), err)
		}
	}
}
