package route

import (
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"oakbarrel/core/condition"
	"oakbarrel/core/limit"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

func severity(s record.Severity) *record.Severity { return &s }
func facility(f record.Facility) *record.Facility { return &f }

// changing has rules that relabel, label and mask: outlets 0 quiet, 1 all.
func changing(t testing.TB) *Table {
	return NewTable([]Rule{
		{Name: "errors of others", When: when(t, "severity is error and app is other"), Drop: true},
		{Name: "whispers", When: when(t, `app is gate and "forced"`), Change: Change{Severity: severity(record.Error)}},
		{Name: "shouts", When: when(t, `severity is error and "self-test"`), Change: Change{Severity: severity(record.Info), Facility: facility(19)}},
		{Name: "renamed", When: when(t, "app is old"), Change: Change{App: []byte("pumpd"), Host: []byte("reef-02")}},
		{Name: "pumps", When: when(t, "app is pumpd"), Change: Change{Labels: []record.Label{{Name: "team", Value: `p"]\`}}}},
		{Name: "more", When: when(t, "field label@32473.team exists"), Change: Change{Labels: []record.Label{{Name: "seen", Value: "yes"}}}},
		{Name: "cards", When: when(t, "any"), Change: Change{Masks: []*regexp.Regexp{regexp.MustCompile(`\d{4}`), regexp.MustCompile(`secret\w*`)}}},
		{Name: "local3", When: when(t, "facility is local3"), Send: []int{0}, Done: true},
		{Name: "errors", When: when(t, "severity is error"), Send: []int{1}},
	}, Otherwise{Drop: true}, 2)
}

func parsed(message string) (r record.Record) {
	p := wire.Parser{Default: record.DefaultPriority}
	r.Received, r.Raw = record.Stamp{Sec: 1, Form: record.Zulu}, []byte(message)
	p.Parse(&r, r.Raw)
	return r
}

func TestLabelsAndMasksOnNestedFields(t *testing.T) {
	r := record.Record{App: []byte("pumpd"), Text: []byte("x"), Time: record.Stamp{Sec: 1, Form: record.Zulu}, Data: []byte(`{"a":{"card":"1234","n":1234},"l":["5678"]}`)}
	b := record.Batch{Records: []record.Record{r}}
	var m Routing
	changing(t).Route(&b, &m)
	want := `"fields":{"a":{"card":"***","n":1234},"l":["***"],"label@32473":{"team":"p\"]\\","seen":"yes"}}`
	if got := string(b.Records[0].AppendJSON(nil)); !strings.Contains(got, want) || !new(record.DataChecker).Valid(b.Records[0].Data) {
		t.Errorf("%s\nwant %s", got, want)
	}
}

func TestWhatRulesChange(t *testing.T) {
	table := changing(t)
	for _, c := range []struct {
		message, becomes string
		outlets          []int
	}{
		{`<14>1 - h gate - - - door forced`, `"facility":"user","severity":"error","host":"h","app":"gate","text":"door forced"`, []int{1}},
		{`<11>1 - h probe - - - self-test`, `"facility":"local3","severity":"info"`, []int{0}},
		{`<11>1 - h other - - - self-test`, `"severity":"error"`, nil},
		{`<11>1 - h old - - [a@1 b="c"] x`, `"host":"reef-02","app":"pumpd","text":"x","fields":{"a@1":{"b":"c"},"label@32473":{"team":"p\"]\\","seen":"yes"}}`, []int{1}},
		{`<11>1 - h a - - [a@1 n="1234 \"5678\"" s="secretive"] 12345 secret`, `"text":"***5 ***","fields":{"a@1":{"n":"*** \"***\"","s":"***"}}`, []int{1}},
		{`<14>1 - h a - - - nothing`, `"text":"nothing"`, nil},
	} {
		explained, routed := parsed(c.message), record.Batch{Records: []record.Record{parsed(c.message)}}
		before := string(explained.AppendJSON(nil))
		way := table.Explain(&explained)
		var m Routing
		for range 2 { // by the second time all is as it was
			table.Route(&routed, &m)
			got := string(routed.Records[0].AppendJSON(nil))
			if got != string(explained.AppendJSON(nil)) || !regexp.MustCompile(regexp.QuoteMeta(c.becomes)).MatchString(got) {
				t.Errorf("%s becomes %s, explained as %s", c.message, got, explained.AppendJSON(nil))
			}
			var outlets []int
			for o := range 2 {
				if m.Has(0, o) {
					outlets = append(outlets, o)
				}
			}
			if !slices.Equal(outlets, c.outlets) || !slices.Equal(way.Outlets, c.outlets) {
				t.Errorf("%s goes to %v, explained as %v", c.message, outlets, way.Outlets)
			}
			m.Undo(&routed)
			if got := string(routed.Records[0].AppendJSON(nil)); got != before {
				t.Errorf("undone it is %s, was %s", got, before)
			}
		}
	}
}

// randomTable has rules of all kinds; records of apps a to c and texts x and y meet them.
func randomTable(t testing.TB, rnd *rand.Rand) *Table {
	conditions := []string{"any", "app is a", "app is b", "severity at least error", "severity is info", "facility is local3", `"x"`, "field label@32473.l exists", "not app is a"}
	var rules []Rule
	for range 1 + rnd.IntN(8) {
		r := Rule{When: when(t, conditions[rnd.IntN(len(conditions))])}
		switch rnd.IntN(6) {
		case 0:
			r.Drop = true
		case 1:
			r.Send, r.Done = []int{rnd.IntN(3)}, rnd.IntN(2) == 0
		case 2:
			r.Change.Severity, r.Done = severity(record.Severity(rnd.IntN(8))), rnd.IntN(4) == 0
		case 3:
			r.Change.App, r.Send = []byte{"ab"[rnd.IntN(2)]}, []int{rnd.IntN(3)}
		case 4:
			r.Change.Labels = []record.Label{{Name: "l", Value: "v"}}
		case 5:
			r.Change.Facility = facility(record.Facility(18 + rnd.IntN(3)))
		}
		rules = append(rules, r)
	}
	otherwise := Otherwise{Send: []int{2}}
	if rnd.IntN(2) == 0 {
		otherwise = Otherwise{Drop: true}
	}
	return NewTable(rules, otherwise, 3)
}

// Whatever the rules and the records, Mark and Explain come to the same.
func TestMarkAndExplainChangeAlike(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 2))
	for range 300 {
		table := randomTable(t, rnd)
		for range 30 {
			r := record.Record{Priority: record.Priority(rnd.IntN(192)), App: []byte{"abc"[rnd.IntN(3)]}, Text: []byte{"xy"[rnd.IntN(2)]}}
			b := record.Batch{Records: []record.Record{r}}
			var m Routing
			table.Route(&b, &m)
			way := table.Explain(&r)
			for o := range 3 {
				if m.Has(0, o) != slices.Contains(way.Outlets, o) {
					t.Fatalf("outlet %d: %v, explained as %+v", o, m.Has(0, o), way)
				}
			}
			if string(r.AppendJSON(nil)) != string(b.Records[0].AppendJSON(nil)) {
				t.Fatalf("%s, explained as %s", b.Records[0].AppendJSON(nil), r.AppendJSON(nil))
			}
		}
	}
}

// What is over the limit of a rule is dropped; a batch that is taken back counts for nothing.
func TestARuleWithALimit(t *testing.T) {
	table := NewTable([]Rule{
		{When: when(t, "severity is alert"), Send: []int{1}},
		{When: when(t, "app is chatty"), Limit: &limit.Shared{Rate: limit.Rate{PerSecond: 1, Burst: 3}}, Send: []int{0}, Done: true},
	}, Otherwise{Send: []int{0}}, 2)
	batch := func(second int64) *record.Batch {
		var b record.Batch
		for i := range 6 {
			r := recordOf([]string{"user.info", "user.alert"}[i/5], "chatty")
			r.Received = record.Stamp{Sec: second, Form: record.Zulu}
			b.Records = append(b.Records, r)
		}
		b.Records = append(b.Records, recordOf("user.info", "other"))
		return &b
	}
	var m Routing
	for range 3 {
		b := batch(100)
		if got := table.Route(b, &m); got != (Counts{In: 7, Routed: 5, Dropped: 2, Limited: 2}) {
			t.Errorf("%+v", got)
		}
		m.Undo(b)
	}
	table.Route(batch(100), &m)
	if got := table.Route(batch(102), &m); got != (Counts{In: 7, Routed: 4, Dropped: 3, Limited: 3}) { // two more, and the alert goes by another rule
		t.Errorf("two seconds later: %+v", got)
	}
	p, _ := record.ParsePriority("user.info")
	if reach := table.Matrix()[p]; reach.Nowhere != condition.Maybe {
		t.Errorf("%+v", reach)
	}
}
