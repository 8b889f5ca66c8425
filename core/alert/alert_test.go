package alert

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/condition"
)

const second = int64(1e6)

var begin = time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC).UnixMicro()

// at returns a hit of records that came as many seconds after the begin as they say.
func (a *Alert) at(seconds int64, count int64) Hit {
	at := begin + seconds*second
	slot := a.SlotOf(at, at)
	return Hit{At: slot, To: slot, Count: count, Arrived: at}
}

func parse(t *testing.T, text string) *condition.Condition {
	t.Helper()
	c, err := condition.Parse(text, nil)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// More than so many within a span: told once while it lasts, over a span after the last, and told
// again only if it comes back; the same whether records come fast or a second apart, at once or
// late.
func TestMoreIsToldOnceUntilItComesBack(t *testing.T) {
	a := &Alert{Kind: More, Than: 5, Span: 10 * time.Minute}
	for _, pace := range []int64{1, 60, 90} {
		var s State
		var changes []Change
		for i := range int64(40) {
			if c := a.Take(&s, []Hit{a.at(i*pace, 1)}, 0); c != None {
				changes = append(changes, c)
			}
			now := begin + i*pace*second
			if c := a.Look(&s, now, 0); c != None {
				t.Errorf("pace %d: %v in the middle", pace, c)
			}
		}
		want := 40 - 5
		if len(changes) != want || changes[0] != Began || slices.Contains(changes[1:], Began) {
			t.Errorf("pace %d: %v", pace, changes)
		}
		end := begin + 39*pace*second
		if c := a.Look(&s, end+9*60*second, 0); c != None || !s.Holds {
			t.Errorf("pace %d: over before the span is: %v", pace, c)
		}
		if c := a.Look(&s, end+11*60*second, 0); c != Ended || s.Holds {
			t.Errorf("pace %d: %v, holds %v", pace, c, s.Holds)
		}
		back := 39*pace + 30*60
		if c := a.Take(&s, []Hit{a.at(back, 5)}, 0); c != None {
			t.Errorf("pace %d: 5 are not more than 5: %v", pace, c)
		}
		if c := a.Take(&s, []Hit{a.at(back+1, 1)}, 0); c != Began || s.Worst != 6 {
			t.Errorf("pace %d: %v, %v", pace, c, s.Worst)
		}
	}
	var slow State
	for i := range int64(40) {
		if c := a.Take(&slow, []Hit{a.at(i*130, 1)}, 0); c != None {
			t.Fatalf("5 in ten minutes at most, and %v", c)
		}
	}
	var late State // all of it comes an hour later
	if c := a.Take(&late, []Hit{a.at(0, 3), a.at(550, 3)}, 0); c != Began {
		t.Error(c)
	}
	if c := a.Look(&late, begin+3600*second, 0); c != Ended {
		t.Error(c)
	}
	if c := a.Take(&late, []Hit{a.at(560, 1)}, 0); c != Goes {
		t.Errorf("what belongs to what was told begins anew: %v", c)
	}
	var full State // of one that others have filled since
	for i := range int64(2000) {
		a.Take(&full, []Hit{a.at(100_000+i*130, 1)}, 0)
	}
	if c := a.Take(&full, []Hit{a.at(0, 3), a.at(60, 3)}, 0); c != Began || len(full.Slots) > mostSlots {
		t.Errorf("what comes late is not judged: %v, %d slots", c, len(full.Slots))
	}
}

// In whatever order and batches records come, and however states are kept in between, it is
// told of the same spans: those that a look at all records finds.
func TestOrderDoesNotMatter(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 9))
	for range 300 {
		a := &Alert{Kind: More, Than: int64(rnd.IntN(6)), Span: time.Duration(1+rnd.IntN(30)) * time.Minute}
		if rnd.IntN(3) == 0 {
			a = &Alert{Kind: Share, Of: condition.Nothing, Over: rnd.Float64(), Least: int64(1 + rnd.IntN(5)), Span: a.Span}
		}
		var hits []Hit
		var past Past
		for range rnd.IntN(60) {
			h := a.at(int64(rnd.IntN(4000)), 1+int64(rnd.IntN(2)))
			h.Of = int64(rnd.IntN(int(h.Count + 1)))
			hits = append(hits, h)
			past.Add(a, "", h)
		}
		told := a.Replay(&past, begin, begin+4000*second)
		rnd.Shuffle(len(hits), func(i, j int) { hits[i], hits[j] = hits[j], hits[i] })
		var s State
		began := false
		for len(hits) > 0 {
			n := 1 + rnd.IntN(len(hits))
			began = a.Take(&s, hits[:n], 0) == Began || began
			hits = hits[n:]
			text, err := json.Marshal(s)
			s = State{}
			if err != nil || json.Unmarshal(text, &s) != nil {
				t.Fatal(err)
			}
		}
		if a.Kind == More && began != (len(told) > 0) { // a share may be too large for a while, until the others come
			t.Fatalf("%+v: began %v, and would have been told %v", a, began, told)
		}
		if a.Kind == Share && len(told) > 0 && !began {
			t.Fatalf("%+v is never told, and would have been told %v", a, told)
		}
	}
}

// The spread of records over slots keeps their number.
func TestSpreadKeepsTheNumber(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for range 1000 {
		h := Hit{At: rnd.Int64N(100), Count: rnd.Int64N(500)}
		h.To, h.Of = h.At+rnd.Int64N(900), rnd.Int64N(h.Count+1)
		var count, of int64
		h.each(func(s Slot) {
			count, of = count+s.Count, of+s.Of
			if s.At < h.At || s.At > h.To {
				t.Fatalf("%+v outside of %+v", s, h)
			}
		})
		if count != h.Count || of > h.Of {
			t.Fatalf("%+v gives %d and %d", h, count, of)
		}
	}
}

func TestFewerIsToldWhenTheSpanIsOver(t *testing.T) {
	a := &Alert{Kind: Fewer, Than: 3, Span: 10 * time.Minute}
	s := State{First: begin}
	minute := 60 * second
	if c := a.Look(&s, begin+5*minute, 0); c != None {
		t.Errorf("before a span is over: %v", c)
	}
	for i := range int64(20) { // one a minute
		a.Take(&s, []Hit{a.at(i*60, 1)}, 0)
		if c := a.Look(&s, begin+i*minute, 0); c != None {
			t.Fatalf("minute %d: %v", i, c)
		}
	}
	began := int64(0)
	for i := int64(20); i < 40; i++ {
		switch c := a.Look(&s, begin+i*minute, 0); {
		case c == Began && began == 0:
			began = i
		case c == Began:
			t.Errorf("told again in minute %d", i)
		}
	}
	if began < 29 || began > 31 { // fewer than 3 in ten minutes, two of grace
		t.Errorf("told in minute %d", began)
	}
	if c := a.Look(&s, begin+41*minute, 0); c != Goes {
		t.Error(c)
	}
	a.Take(&s, []Hit{a.at(41*60, 3)}, 0)
	if c := a.Look(&s, begin+44*minute, 0); c != Ended {
		t.Error(c)
	}
	s = State{First: begin}
	if c := a.Look(&s, begin+60*minute, begin+55*minute); c != None {
		t.Errorf("the store was away until five minutes ago, and: %v", c)
	}
}

func TestSilenceIsToldWhereItNeverWas(t *testing.T) {
	a := &Alert{Kind: Silent, Span: 30 * time.Minute, By: "host"}
	hear := func(s *State, minutes ...int64) (now int64) {
		for _, m := range minutes {
			now = begin + m*60*second
			a.Take(s, []Hit{{At: a.SlotOf(now, now), To: a.SlotOf(now, now), Count: 1, Arrived: now}}, 0)
		}
		return now
	}
	every := func(step, until int64) (all []int64) {
		for m := int64(0); m <= until; m += step {
			all = append(all, m)
		}
		return all
	}
	var steady State
	now := hear(&steady, every(1, 120)...)
	if c := a.Look(&steady, now+29*60*second, 0); c != None {
		t.Errorf("29 minutes: %v", c)
	}
	if c := a.Look(&steady, now+31*60*second, 0); c != Began || steady.Worst != 31*60 {
		t.Errorf("31 minutes: %v, %v", c, steady.Worst)
	}
	now += 40 * 60 * second
	if c := a.Take(&steady, []Hit{{Count: 1, Arrived: now}}, 0); c != Ended {
		t.Errorf("heard again: %v", c)
	}
	if c := a.Look(&steady, now+31*60*second, 0); c != Began {
		t.Errorf("a silence that was told is no usual one: %v", c)
	}
	var sleepy State // silent for 45 minutes once
	now = hear(&sleepy, append(every(1, 60), []int64{105, 106, 107, 108, 109, 110, 125}...)...)
	if c := a.Look(&sleepy, now+40*60*second, 0); c != None {
		t.Errorf("it was silent for 45 minutes before: %v", c)
	}
	if c := a.Look(&sleepy, now+46*60*second, 0); c != Began {
		t.Error(c)
	}
	if c := a.Look(&State{First: now, Last: now, Heard: 3}, now+90*60*second, 0); c != None {
		t.Errorf("heard three times in all, and: %v", c)
	}
	var unheard State
	now = hear(&unheard, every(1, 120)...)
	if c := a.Look(&unheard, now+40*60*second, now+35*60*second); c != None {
		t.Errorf("the store was away, and: %v", c)
	}
	if c := a.Look(&unheard, now+70*60*second, now+35*60*second); c != Began {
		t.Error(c)
	}
	var outage State // of the store, for two hours
	now = hear(&outage, every(1, 120)...) + 2*3600*second
	a.Take(&outage, []Hit{{Count: 1, Arrived: now}}, now-60*second)
	if c := a.Look(&outage, now+31*60*second, now-60*second); c != Began {
		t.Errorf("the store was away, and that is a usual silence: %v", c)
	}
}

func TestValuesSharesAndShapes(t *testing.T) {
	over := &Alert{Kind: Value, Field: "tank.temperature", Bound: 28, Span: 10 * time.Minute}
	var s State
	h := over.at(0, 1)
	h.Value = 28.5
	if c := over.Take(&s, []Hit{h}, 0); c != Began || s.Worst != 28.5 {
		t.Error(c, s.Worst)
	}
	h = over.at(60, 1)
	h.Value = 31.25
	if c := over.Take(&s, []Hit{h}, 0); c != Goes || over.Line("reef-02", &s) != "reef-02: tank.temperature was 31.25, over 28" {
		t.Error(c, over.Line("reef-02", &s))
	}
	under := &Alert{Kind: Value, Field: "ph", Bound: 7, Under: true, Span: time.Minute}
	low, lower := under.at(0, 1), under.at(1, 1)
	low.Value, lower.Value = 6.5, -2
	s = State{}
	if c := under.Take(&s, []Hit{low, lower}, 0); c != Began || s.Worst != -2 {
		t.Error(c, s.Worst)
	}
	share := &Alert{Kind: Share, Of: parse(t, "severity at least error"), Over: 0.05, Least: 20, Span: 10 * time.Minute}
	s = State{}
	few := share.at(0, 19)
	few.Of = 19
	if c := share.Take(&s, []Hit{few}, 0); c != None {
		t.Errorf("19 records are too few: %v", c)
	}
	if c := share.Take(&s, []Hit{share.at(1, 400)}, 0); c != None {
		t.Errorf("19 of 419 are less than 5 %%: %v", c)
	}
	more := share.at(2, 10)
	more.Of = 10
	if c := share.Take(&s, []Hit{more}, 0); c != Began || share.Line("", &s) != "6.7 % of the records within 10m, more than 5 %" {
		t.Error(c, share.Line("", &s))
	}
	shape := &Alert{Kind: NewShape}
	s = State{}
	if c := shape.Take(&s, []Hit{shape.at(0, 4)}, 0); c != Began {
		t.Error(c)
	}
	if c := shape.Look(&s, begin+2*3600*second, 0); c != Ended {
		t.Error(c)
	}
	if c := shape.Take(&s, []Hit{shape.at(7300, 4)}, 0); c != None {
		t.Errorf("a shape is new once: %v", c)
	}
}

// The conditions that lead to the records of one whom an alert is about can be read, and mean them.
func TestWhere(t *testing.T) {
	for _, c := range []struct {
		alert Alert
		who   string
		want  string
	}{
		{Alert{Kind: More}, "", ""},
		{Alert{Kind: More, By: "host"}, "reef-02", `host is "reef-02"`},
		{Alert{Kind: More, By: "host"}, Others, ``},
		{Alert{Kind: More, By: "field x"}, Missing, `field x missing`},
		{Alert{Kind: More, By: "field tank.id", When: parse(t, "app is pumpd or app is ticketd")}, `a"b\`, `(app is pumpd or app is ticketd) and field tank.id is "a\"b\\"`},
		{Alert{Kind: Value, Field: "ph", Bound: 7.5, Under: true}, "", "field ph < 7.5"},
		{Alert{Kind: Share, Of: parse(t, "severity at least error"), By: "app"}, "pumpd", `severity at least error and app is "pumpd"`},
		{Alert{Kind: NewShape}, "pump … stalled", `shape is "pump … stalled"`},
	} {
		got := c.alert.Where(c.who)
		if got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
		if got != "" {
			parse(t, got)
		}
	}
}

// quietUntil is when a quiet time ends, the time itself where it is none.
func quietUntil(a *Alert, at time.Time) time.Time {
	for range 8 * 24 * 60 {
		if !a.IsQuiet(at) {
			return at
		}
		at = at.Truncate(time.Minute).Add(time.Minute)
	}
	return at
}

func TestQuietHours(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Stockholm")
	if err != nil {
		t.Fatal(err)
	}
	a := &Alert{Zone: zone, Quiet: []Quiet{{From: 22 * 60, To: 6 * 60}, {Days: []time.Weekday{time.Saturday, time.Sunday}}}}
	for _, c := range []struct{ now, until string }{
		{"2026-11-25 21:59", "2026-11-25 21:59"},
		{"2026-11-25 22:00", "2026-11-26 06:00"},
		{"2026-11-26 05:59", "2026-11-26 06:00"},
		{"2026-11-27 23:00", "2026-11-30 06:00"}, // Friday night, the weekend, and the night to Monday
		{"2026-10-24 23:30", "2026-10-26 06:00"}, // over the change of the clock
	} {
		now, _ := time.ParseInLocation("2006-01-02 15:04", c.now, zone)
		if got := quietUntil(a, now).In(zone).Format("2006-01-02 15:04"); got != c.until {
			t.Errorf("%s is quiet until %s, want %s", c.now, got, c.until)
		}
	}
	nights := &Alert{Zone: time.UTC, Quiet: []Quiet{{From: 22 * 60, To: 6 * 60, Days: []time.Weekday{time.Friday}}}}
	if at := time.Date(2026, 11, 28, 5, 0, 0, 0, time.UTC); quietUntil(nights, at) != at.Add(time.Hour) { // Saturday, of the night that began on Friday
		t.Error(quietUntil(nights, at))
	}
	if at := time.Date(2026, 11, 27, 5, 0, 0, 0, time.UTC); quietUntil(nights, at) != at {
		t.Error(quietUntil(nights, at))
	}
	always := &Alert{Quiet: []Quiet{{}}}
	if at := time.Now(); !quietUntil(always, at).After(at.Add(7 * 24 * time.Hour)) {
		t.Error("there is an end to a time that has none")
	}
}

// What is replayed is what would have been told: a storm of many is one.
func TestReplay(t *testing.T) {
	a := &Alert{Kind: More, Than: 2, Span: 10 * time.Minute, By: "host"}
	var past Past
	for host := range 50 {
		past.Add(a, fmt.Sprintf("kelp-%02d", host), a.at(int64(host*3), 5))
	}
	past.Add(a, "reef-02", a.at(7200, 5))
	past.Add(a, "reef-02", a.at(7260, 5))
	past.Add(a, "reef-02", a.at(10_800, 2))
	told := a.Replay(&past, begin, begin+4*3600*second)
	if len(told) != 2 || told[0].Count != 50 || told[1].Count != 1 || !strings.HasPrefix(told[1].Line, "reef-02: 5 records within 10m") {
		t.Errorf("%+v", told)
	}
	silent := &Alert{Kind: Silent, Span: 30 * time.Minute}
	past = Past{}
	for m := range int64(300) {
		if m < 100 || m > 160 {
			past.Add(silent, "reef-02", silent.at(m*60, 1))
		}
	}
	if told = silent.Replay(&past, begin, begin+320*60*second); len(told) != 1 || (told[0].At-begin)/second/60 != 129 {
		t.Errorf("%+v", told)
	}
	fewer := &Alert{Kind: Fewer, Than: 5, Span: 10 * time.Minute}
	past = Past{}
	for m := range int64(300) {
		if m < 100 || m > 160 {
			past.Add(fewer, "", fewer.at(m*60, 1))
		}
	}
	if told = fewer.Replay(&past, begin, begin+299*60*second); len(told) != 1 {
		t.Errorf("%+v", told)
	}
	shape := &Alert{Kind: NewShape, Span: time.Minute}
	past = Past{}
	past.Add(shape, "pump … stalled", shape.at(5, 1))
	if told = shape.Replay(&past, begin, begin+300*second); len(told) != 1 || told[0].Line != "never there before: pump … stalled" {
		t.Errorf("%+v", told)
	}
}

// However many there are, so many are looked at each by itself.
func TestManyAreOthers(t *testing.T) {
	a := &Alert{Kind: More, Than: 100, Span: time.Minute}
	var past Past
	for i := range 3000 {
		past.Add(a, fmt.Sprint(i), a.at(0, 1))
	}
	if len(past.of) != mostWho+1 || past.of[Others] == nil {
		t.Errorf("%d", len(past.of))
	}
	told := a.Replay(&past, begin, begin+60*second)
	if len(told) != 1 || !strings.HasPrefix(told[0].Line, Others) {
		t.Errorf("%+v", told)
	}
	var s State
	for i := range int64(5000) {
		a.Take(&s, []Hit{a.at(i*7, 1)}, 0)
	}
	if len(s.Slots) > mostSlots {
		t.Errorf("%d slots", len(s.Slots))
	}
}
