package api_test

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/shape"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// sentRecords has an agent send a batch of records.
func (s *shelved) sentRecords(agent int, first uint64, records []record.Record) {
	s.t.Helper()
	head, payload := pack(first, records)
	b := &ingest.Batch{FeedKey: s.key(agent), Numbers: head.Numbers, Hash: sha256.Sum256(payload), Payload: payload}
	if err := b.Open(); err != nil {
		s.t.Fatal(err)
	}
	if _, err := s.feeds.Take(context.Background(), b); err != nil {
		s.t.Fatal(err)
	}
}

// of is what a shape must be said to have.
type of struct {
	Count, Before int64
	Hosts         string
	Severities    [8]int64
}

// byHand counts shapes by reading every record of two spans.
func (s *shelved) byHand(q search.Query) map[string]of {
	s.t.Helper()
	all, hosts := map[string]of{}, map[string]map[string]int64{}
	whole := q
	whole.Since -= q.Until - q.Since
	whole.Casks, whole.Limit = []uint64{s.cask}, math.MaxInt
	err := s.search.Search(context.Background(), whole, func(h search.Hit) error {
		var r struct{ Text, Host, Severity string }
		if err := json.Unmarshal(h.JSON, &r); err != nil {
			return err
		}
		text := string(shape.Append(nil, []byte(r.Text)))
		o := all[text]
		if h.Place.Time < q.Since {
			o.Before++
		} else {
			o.Count++
			severity, _ := record.ParseSeverity(r.Severity)
			o.Severities[severity]++
			if hosts[text] == nil {
				hosts[text] = map[string]int64{}
			}
			hosts[text][r.Host]++
		}
		all[text] = o
		return nil
	})
	if err != nil {
		s.t.Fatal(err)
	}
	for text, names := range hosts {
		o := all[text]
		o.Hosts = fmt.Sprint(names)
		all[text] = o
	}
	return all
}

// countsShapes wants shapes to be counted as by hand, for several spans and conditions.
func (s *shelved) countsShapes(what string) {
	s.t.Helper()
	for _, where := range []string{"", "severity at most notice", `host is reef-02 and shape is not "valve V7 reached its end"`, "agent missing", "text has word 7", `field "x" exists`} {
		for _, span := range [][2]int64{{1795600800, 1795604400}, {1795602000, 1795602777}, {1795603000, 1795609000}} {
			q := search.Query{Casks: []uint64{s.cask}, Since: span[0]*1e6 + 123, Until: span[1] * 1e6}
			if where != "" {
				q.Condition = s.about(where).Condition
			}
			found, err := s.search.Shapes(s.t.Context(), q, 10)
			if err != nil {
				s.t.Fatal(err)
			}
			got, total := map[string]of{}, int64(0)
			for _, c := range found.All {
				o := of{Count: c.Count, Before: c.Before, Severities: c.Severities}
				if c.Count > 0 {
					o.Hosts = fmt.Sprint(c.Hosts)
				}
				got[c.Text] = o
				total += c.Count
				course := int64(0)
				for _, n := range c.Course {
					course += n
				}
				if course != c.Count {
					s.t.Errorf("%s: %q: %d in its course, %d in all", what, c.Text, course, c.Count)
				}
			}
			if want := s.byHand(q); !maps.Equal(got, want) || total != found.Total {
				s.t.Errorf("%s: where %q, %v: %d of %d records are of\n%v\nand not\n%v", what, where, span, total, found.Total, got, want)
				return
			}
			s.countsAlike(q, found)
		}
	}
}

// countsAlike wants counts by host and by severity to be those that shapes add up to.
func (s *shelved) countsAlike(q search.Query, found *search.Shapes) {
	s.t.Helper()
	want := map[string]int64{}
	for _, c := range found.All {
		for host, n := range c.Hosts {
			want[cmp.Or(host, search.Missing)] += n
		}
		for severity, n := range c.Severities {
			want[record.Severity(severity).String()] += n
		}
	}
	maps.DeleteFunc(want, func(_ string, n int64) bool { return n == 0 })
	by, _ := search.ValueOf("host", "")
	total, _, hosts, err := s.search.TopValues(s.t.Context(), q, by, 100)
	again, severities, err2 := s.search.CountBy(s.t.Context(), q, "severity")
	got := map[string]int64{}
	for _, c := range slices.Concat(hosts, severities) {
		got[c.Key] = c.Count
	}
	if err != nil || err2 != nil || total != found.Total || again != found.Total || !maps.Equal(got, want) {
		s.t.Errorf("%v: counted are %d and %d, %v, and not %d, %v: %v, %v", q.Condition, total, again, got, found.Total, want, err, err2)
	}
}

// knowsShapes wants each shelf to know the shapes that its blocks name.
func (s *shelved) knowsShapes() {
	s.t.Helper()
	for _, of := range s.shelves.All() {
		db, err := of.DB(s.t.Context())
		if err != nil {
			s.t.Fatal(err)
		}
		var blocks []model.Block
		db.Select("id, kinds").Find(&blocks)
		var known []uint64
		db.Model(&model.Shape{}).Pluck("key", &known)
		for _, b := range blocks {
			kinds, _, err := ingest.OpenKinds(b.Kinds)
			if err != nil || slices.ContainsFunc(kinds, func(k ingest.Kind) bool { return !slices.Contains(known, k.Key) }) {
				s.t.Fatalf("shelf %s does not know a shape of block %d, %v", of.Name(), b.ID, err)
			}
		}
	}
}

// story are texts that a host may say.
func story(random *rand.Rand) string {
	texts := []string{"pump P%02d at %d rpm", "valve V%d reached its end", "session %x opened", "link to shore %d%% good, %d ms", "door forced open", "reef line %d\nbehind it %d", ""}
	text := texts[random.IntN(len(texts))]
	var parts []any
	for range 2 {
		parts = append(parts, random.IntN(5000))
	}
	n := 0
	for i := range len(text) - 1 {
		if text[i] == '%' && text[i+1] != '%' && (i == 0 || text[i-1] != '%') {
			n++
		}
	}
	return fmt.Sprintf(text, parts[:n]...)
}

func randomRecords(random *rand.Rand, n int) (records []record.Record) {
	begin := 1795600800 + random.Int64N(7000)
	for range n {
		r := record.Record{Time: record.Stamp{Sec: begin + random.Int64N(900), Nsec: int32(random.IntN(1e6)) * 1000, Form: record.Zulu}, Priority: record.Priority(random.IntN(192)), App: []byte("pumpd"), Text: []byte(story(random))}
		if host := random.IntN(3); host > 0 {
			r.Host = fmt.Appendf(nil, "reef-%02d", host)
		}
		records = append(records, r)
	}
	return records
}

// Counts by shape are those of the records, however they lie in blocks: as they came, merged,
// of an earlier version, with something that cannot be read beside them, and on other shelves.
func TestShapesAreCountedAsByHand(t *testing.T) {
	oneAtATime(t)
	s, random := newShelved(t, "north"), rand.New(rand.NewPCG(21, 1))
	for agent := range 4 {
		for n := range uint64(25) {
			records := randomRecords(random, 40)
			records[0].Text = fmt.Appendf(nil, "only %c says so", 'g'+agent)
			s.sentRecords(agent, n*40+1, records)
		}
	}
	s.countsShapes("as it came")
	each := func(change string) {
		for _, of := range s.shelves.All() {
			if db, err := of.DB(t.Context()); err != nil || db.Exec(change).Error != nil {
				t.Fatal(err)
			}
		}
	}
	each("UPDATE blocks SET arrived = arrived - 86400000000")
	s.kept()
	s.countsShapes("merged")
	s.inOrder()
	each("UPDATE blocks SET kinds = NULL")
	each("DELETE FROM shapes")
	s.countsShapes("of an earlier version")
	s.kept()
	var left, known int64
	s.first.Model(&model.Block{}).Where("kinds IS NULL").Count(&left)
	s.first.Model(&model.Shape{}).Count(&known)
	if left > 0 || known < 6 {
		t.Errorf("beside %d blocks nothing stands, and %d shapes are known", left, known)
	}
	s.countsShapes("described")
	s.inOrder()
	s.drainFirst()
	s.countsShapes("moved")
	s.knowsShapes()
	s.inOrder()
	each("UPDATE blocks SET kinds = CONCAT(CHAR(1), CHAR(255), kinds)")
	s.countsShapes("with something that cannot be read")
	each("UPDATE blocks SET kinds = CONCAT(CHAR(9), kinds)")
	s.countsShapes("of a version that nobody knows")
}

// Of blocks within a span nothing is opened, where the condition asks for what stands beside them.
func TestShapesAreCountedWithoutOpeningBlocks(t *testing.T) {
	s := newShelved(t)
	for n := range uint64(5) {
		s.sentRecords(1, n*40+1, randomRecords(rand.New(rand.NewPCG(21, n)), 40))
	}
	if err := s.first.Exec("UPDATE blocks SET payload = 'x'").Error; err != nil {
		t.Fatal(err)
	}
	for where, opens := range map[string]bool{"any": false, "severity at least error or host is reef-01 and app is pumpd": false, `shape is "door forced open"`: false, "agent missing": false, "text has word door": true, "procid missing": true} {
		q := s.about(where)
		q.Casks, q.Since, q.Until = []uint64{s.cask}, 1795600000e6, 1795700000e6
		var opened atomic.Int64
		q.Damaged = func(uint64, error) { opened.Add(1) }
		found, err := s.search.Shapes(t.Context(), q, 10)
		if err != nil {
			t.Fatal(err)
		}
		if (opened.Load() > 0) != opens || !opens && found.Total == 0 {
			t.Errorf("%s: %d records, %d blocks are opened", where, found.Total, opened.Load())
		}
	}
}

// A hundred agents with texts of their own do not make the table of shapes grow without end, and
// what is in no table is counted all the same.
func TestShapesOfACaskAreBounded(t *testing.T) {
	oneAtATime(t)
	s, random := newShelved(t), rand.New(rand.NewPCG(21, 2))
	word := func() string {
		text := make([]byte, 12)
		for i := range text {
			text[i] = 'g' + byte(random.IntN(20))
		}
		return string(text)
	}
	const batches, each = 16, 4000
	for n := range uint64(batches) {
		var records []record.Record
		for range each {
			records = append(records, record.Record{Time: record.Stamp{Sec: 1795600800, Form: record.Zulu}, Text: []byte(word())})
		}
		s.sentRecords(1, n*each+1, records)
	}
	var known int64
	if s.first.Model(&model.Shape{}).Count(&known); known > 50_000 || known < 40_000 {
		t.Errorf("%d shapes are known", known)
	}
	found, err := s.search.Shapes(t.Context(), search.Query{Casks: []uint64{s.cask}, Since: 1795600000e6, Until: 1795700000e6}, 10)
	if err != nil || found.Total != batches*each {
		t.Errorf("%d records are counted, %v", found.Total, err)
	}
	s.sentRecords(2, 1, randomRecords(random, 40))
	s.inOrder()
}

// What was never there before is new, what comes far more or less often than others has risen
// or fallen, what is gone has ceased; and a host that is added, or a quiet day, is none of it.
func TestWhatIsRemarkableAboutShapes(t *testing.T) {
	const hour = 3600
	begin := int64(1795600800)
	s := newShelved(t)
	number := map[int]uint64{}
	say := func(agent int, from, to int64, n int, text string) {
		var records []record.Record
		for i := range n {
			records = append(records, record.Record{Time: record.Stamp{Sec: from + (to-from)*int64(i)/int64(n), Form: record.Zulu}, Host: fmt.Appendf(nil, "reef-%02d", agent), Text: []byte(text)})
		}
		s.sentRecords(agent, number[agent]+1, records)
		number[agent] += uint64(n)
	}
	for i := range 8 { // which take their course, twice as much in the second hour
		text := fmt.Sprintf("%c winding", 'p'+i)
		say(1, begin, begin+hour, 100, text)
		say(1, begin+hour, begin+2*hour, 200, text)
	}
	say(1, begin, begin+hour, 30, "timeout of the gate")
	say(1, begin+hour, begin+2*hour, 400, "timeout of the gate")
	say(1, begin, begin+hour, 200, "valve moved")
	say(1, begin+hour, begin+2*hour, 40, "valve moved")
	say(1, begin, begin+hour, 50, "tide table read")
	say(1, begin+hour, begin+2*hour, 3, "no flow in loop reef")
	say(1, begin, begin+hour, 2, "seldom said")
	say(1, begin+hour, begin+2*hour, 7, "seldom said")
	ask := func(newSince int64) map[string]string {
		found, err := s.search.Shapes(t.Context(), search.Query{Casks: []uint64{s.cask}, Since: (begin + hour) * 1e6, Until: (begin + 2*hour) * 1e6}, 10)
		if err != nil {
			t.Fatal(err)
		}
		what := map[string]string{}
		for _, c := range found.All {
			if w := found.What(c, newSince); w != "" {
				what[c.Text] = w
			}
		}
		return what
	}
	want := map[string]string{"timeout of the gate": "risen", "valve moved": "fallen", "tide table read": "ceased", "no flow in loop reef": "new"}
	if got := ask((begin + hour) * 1e6); !maps.Equal(got, want) {
		t.Errorf("%v", got)
	}
	delete(want, "no flow in loop reef")
	if got := ask((begin - hour) * 1e6); !maps.Equal(got, want) {
		t.Errorf("where the cask itself is new: %v", got)
	}
	say(2, begin-30*24*hour, begin-30*24*hour+10, 1, "no flow in loop reef") // brought from an archive
	if got := ask((begin + hour) * 1e6); !maps.Equal(got, want) {
		t.Errorf("where there was one a month ago: %v", got)
	}
}

// The interface tells of shapes, of the casks that the token may read.
func TestTheInterfaceTellsOfShapes(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	records := some(50)
	for i := range records {
		records[i].App = []byte("pumpd")
		records[i].Text = fmt.Appendf(nil, "pump P%d stalled", i)
	}
	records[7].Text = []byte("odd \xff one")
	head, payload := pack(1, records)
	if _, err := f.writer(f.agent(800)).SendBatch(ctx, f.agent(800), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	q := client.Query{Cask: f.cask, Since: time.Unix(1795601700, 0), Until: time.Unix(1795601760, 0)}
	got, err := f.read.Shapes(ctx, q, client.ShapesAsked{Parts: 6})
	if err != nil || got.Total != 50 || len(got.Shapes) != 2 {
		t.Fatalf("%+v, %v", got, err)
	}
	first := got.Shapes[0]
	if first.Shape != "pump P… stalled" || first.Records != 49 || first.Severity != "emergency" || first.HostCount != 1 || first.Hosts[0] != (client.Count{Key: "reef-02", Count: 49}) || first.Apps[0].Key != "pumpd" || len(first.Course) != 6 || first.Since == nil || !first.Since.Equal(time.Unix(1795601700, 0)) || !first.Last.Equal(time.Unix(1795601749, 0)) {
		t.Errorf("%+v", first)
	}
	if odd := got.Shapes[1].Shape; odd != "odd \uFFFD one" {
		t.Errorf("a text that is not UTF-8 is told as %q", odd)
	}
	one, err := f.read.Shapes(ctx, q, client.ShapesAsked{Limit: 1})
	if err != nil || len(one.Shapes) != 1 || one.More != (client.MoreShapes{Shapes: 1, Records: 1}) {
		t.Errorf("%+v, %v", one, err)
	}
	none, err := f.read.Shapes(ctx, q, client.ShapesAsked{Only: []string{"new", "ceased"}})
	if err != nil || len(none.Shapes) != 0 {
		t.Errorf("%+v, %v", none, err)
	}
	matched, err := f.read.Count(ctx, client.Query{Cask: f.cask, Where: `shape is "pump P99 stalled"`}, "severity", "", 20)
	if err != nil || matched.Total != 49 {
		t.Errorf("%+v, %v", matched, err)
	}
	for name, q := range map[string]client.Query{"no span": {Cask: f.cask}, "no such cask": {Cask: "nowhere", Since: q.Since, Until: q.Until}, "a wrong condition": {Since: q.Since, Until: q.Until, Where: "shape"}} {
		if _, err := f.read.Shapes(ctx, q, client.ShapesAsked{}); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
	if _, err := f.read.Shapes(ctx, q, client.ShapesAsked{Only: []string{"odd"}}); err == nil {
		t.Error("only odd: no error")
	}
	acts, err := f.admin().Audit(ctx, time.Time{}, 1000)
	if err != nil || !slices.ContainsFunc(acts, func(a client.Act) bool { return a.What == "count shapes" }) {
		t.Errorf("the audit trail does not tell of it: %v", err)
	}
}

// What no block has had for long is forgotten.
func TestShapesAreForgotten(t *testing.T) {
	s := newShelved(t)
	s.sentRecords(1, 1, randomRecords(rand.New(rand.NewPCG(21, 3)), 40))
	old := model.Shape{CaskID: s.cask, Key: 1, Text: []byte("long gone"), Last: time.Now().AddDate(0, 0, -91).UnixMicro()}
	quiet := model.Shape{CaskID: s.cask, Key: 2, Text: []byte("a while ago"), Last: time.Now().AddDate(0, 0, -80).UnixMicro()}
	s.first.Create(&old)
	s.first.Create(&quiet)
	s.first.Exec("UPDATE blocks SET arrived = arrived - 95 * 86400000000")
	s.kept()
	keys := func() (keys []uint64) {
		s.first.Model(&model.Shape{}).Where("`key` < 3").Order("`key`").Pluck("key", &keys)
		return keys
	}
	if got := keys(); !slices.Equal(got, []uint64{1, 2}) {
		t.Errorf("with a block as old as that, %v are left", got)
	}
	s.first.Exec("UPDATE blocks SET arrived = arrived + 95 * 86400000000")
	s.kept()
	if got := keys(); !slices.Equal(got, []uint64{2}) {
		t.Errorf("%v are left", got)
	}
}

// A record of a time that nobody can write does not keep anybody from reading of others.
func TestTimesBeyondAllCalendars(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	records := some(3)
	records[1].Time.Sec = 253402300799 + 3600 // at the end of the year 9999, an hour west of Greenwich
	records[2].Time.Sec = -62135596800 - 3600 // likewise at the begin of the year 1, an hour east
	head, payload := pack(1, records)
	if _, err := f.writer(f.agent(811)).SendBatch(ctx, f.agent(811), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	wild := some(3)
	wild[0].Time.Sec, wild[1].Time.Sec, wild[2].Time.Sec = 1<<62, -1<<62, math.MaxInt64
	head, payload = pack(4, wild)
	if _, err := f.writer(f.agent(811)).SendBatch(ctx, f.agent(811), "centre", f.cask, head, payload); err == nil {
		t.Error("a batch of wilder times is taken")
	}
	q := client.Query{Cask: f.cask, Since: time.Unix(1795601700, 0), Until: time.Date(9999, 12, 31, 23, 59, 59, 0, time.FixedZone("", -2*3600))}
	if got, err := f.read.Shapes(ctx, q, client.ShapesAsked{}); err != nil || got.Total != 2 {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := f.read.Cask(ctx, f.cask); err != nil {
		t.Error(err)
	}
	n := 0
	if err := f.read.Read(ctx, client.Query{Cask: f.cask}, client.Page{}, func([]byte) error { n++; return nil }); err != nil || n != 3 {
		t.Errorf("%d, %v", n, err)
	}
}
