package route

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

func when(t testing.TB, s string) *condition.Condition {
	c, err := condition.Parse(s, nil)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// lantern has the rules of a small plan: outlets 0 everything, 1 signins, 2 centre.
func lantern(t testing.TB) *Table {
	return NewTable([]Rule{
		{Name: "probe chatter", When: when(t, `app is "salinity-probe" and severity at most info`), Drop: true},
		{Name: "all", When: when(t, "any"), Send: []int{0}},
		{Name: "sign-ins", When: when(t, "facility in (auth, authpriv)"), Send: []int{1, 2, 0}, Done: true},
		{Name: "worst", When: when(t, "severity at least critical"), Send: []int{2}},
		{Name: "late drop", When: when(t, "app is chatty"), Drop: true},
	}, Otherwise{Send: []int{0}}, 3)
}

func recordOf(priority, app string) record.Record {
	p, _ := record.ParsePriority(priority)
	return record.Record{Priority: p, App: []byte(app)}
}

func TestMarkAndExplainAgree(t *testing.T) {
	table := lantern(t)
	for _, c := range []struct {
		priority, app string
		want          []int
		reached       int
	}{
		{"local3.info", "salinity-probe", nil, 1},
		{"local3.error", "salinity-probe", []int{0}, 5},
		{"local3.info", "pumpd", []int{0}, 5},
		{"auth.info", "door", []int{0, 1, 2}, 3},
		{"auth.alert", "door", []int{0, 1, 2}, 3},
		{"kern.critical", "kernel", []int{0, 2}, 5},
		{"user.info", "chatty", []int{0}, 5}, // what was sent before stays sent
	} {
		b := record.Batch{Records: []record.Record{recordOf(c.priority, c.app)}}
		var m Routing
		counts := table.Route(&b, &m)
		var got []int
		for o := range 3 {
			if m.Has(0, o) {
				got = append(got, o)
			}
		}
		if !reflect.DeepEqual(got, c.want) || counts.In != 1 || counts.Routed != min(len(c.want), 1) || counts.Dropped != 1-counts.Routed {
			t.Errorf("%s %s goes to %v, counted %+v, want %v", c.priority, c.app, got, counts, c.want)
		}
		way := table.Explain(&b.Records[0])
		reached := 0
		for _, j := range way.Rules {
			if j.Reached {
				reached++
			}
		}
		if !reflect.DeepEqual(way.Outlets, c.want) || reached != c.reached || len(way.Rules) != 5 || way.Otherwise {
			t.Errorf("%s %s is explained as %+v", c.priority, c.app, way)
		}
	}
}

func TestOtherwise(t *testing.T) {
	rules := []Rule{{When: when(t, "app is a"), Send: []int{0}}, {When: when(t, "app is b"), Drop: true}}
	for app, want := range map[string][]int{"a": {0}, "b": nil, "c": {1}} {
		r := recordOf("user.info", app)
		if got := NewTable(rules, Otherwise{Send: []int{1}}, 2).Explain(&r); !reflect.DeepEqual(got.Outlets, want) || got.Otherwise != (app == "c") {
			t.Errorf("%s: %+v, want %v", app, got, want)
		}
	}
	b := record.Batch{Records: []record.Record{recordOf("user.info", "c"), recordOf("user.info", "a")}}
	var m Routing
	if got := NewTable(rules, Otherwise{Drop: true}, 2).Route(&b, &m); got != (Counts{In: 2, Routed: 1, Dropped: 1}) {
		t.Errorf("otherwise drop counts %+v", got)
	}
}

// A walk over the rules that the priorities leave open must do what a walk over all rules does.
func TestWalksEqualTheRules(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	parts := []string{"any", "app is a", "app is b", "severity at least error", "severity is info", "facility is auth", "facility in (user, kern)", "not severity at most notice"}
	pick := func() string { return parts[rnd.IntN(len(parts))] }
	for range 60 {
		var rules []Rule
		for range rnd.IntN(8) {
			r := Rule{When: when(t, fmt.Sprintf([]string{"%s and %s or not %s", "%s and %s and not %s"}[rnd.IntN(2)], pick(), pick(), pick())), Drop: rnd.IntN(5) == 0, Done: rnd.IntN(3) == 0}
			if !r.Drop {
				r.Send = []int{rnd.IntN(100), rnd.IntN(100)}
			}
			rules = append(rules, r)
		}
		table := NewTable(rules, Otherwise{Send: []int{99}}, 100)
		var b record.Batch
		for p := range record.Priorities {
			for _, app := range []string{"a", "b", "c"} {
				r := b.Next()
				r.Priority, r.App = record.Priority(p), []byte(app)
			}
		}
		var m Routing
		table.Route(&b, &m)
		for i := range b.Records {
			way := table.Explain(&b.Records[i])
			for o := range 100 {
				if m.Has(i, o) != slices.Contains(way.Outlets, o) {
					t.Fatalf("record %d, outlet %d: routed %v, explained %v", i, o, m.Has(i, o), way.Outlets)
				}
			}
		}
	}
}

func TestUnreachable(t *testing.T) {
	for _, c := range []struct {
		rules []Rule
		want  []int
	}{
		{[]Rule{{When: when(t, "any"), Done: true}, {When: when(t, "app is a")}}, []int{1}},
		{[]Rule{{When: when(t, "any")}, {When: when(t, "app is a")}}, nil},
		{[]Rule{{When: when(t, "severity at least warning"), Done: true}, {When: when(t, "severity at most notice"), Drop: true}, {When: when(t, "app is a")}}, []int{2}},
		{[]Rule{{When: when(t, "app is a"), Done: true}, {When: when(t, "app is a and severity is error")}, {When: when(t, "app is b")}}, []int{1}},
		{[]Rule{{When: when(t, "severity at least warning"), Done: true}, {When: when(t, "severity is error")}}, []int{1}},
		{[]Rule{{When: when(t, "app is a and app is b")}}, nil},
	} {
		if got := NewTable(c.rules, Otherwise{Drop: true}, 0).Unreachable(); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%v, want %v", got, c.want)
		}
	}
}

func TestMarkAllocatesNothing(t *testing.T) {
	table := lantern(t)
	var b record.Batch
	for range 64 {
		*b.Next() = recordOf("local3.info", "pumpd")
	}
	var m Routing
	table.Route(&b, &m)
	if n := testing.AllocsPerRun(10, func() { table.Route(&b, &m) }); n != 0 {
		t.Errorf("%v allocations a batch", n)
	}
}

// A record that is only sent to an outlet that keeps nothing goes on to
// otherwise, whichever way the rules are walked.
func TestWhatOnlyTellsSomebodyIsKeptByOtherwise(t *testing.T) {
	const all, duty = 0, 1
	for name, c := range map[string]struct {
		rules []Rule
		drop  bool
		want  map[string][]int
	}{
		"by priority": {[]Rule{{When: when(t, "severity at least critical"), Send: []int{duty}}}, false, map[string][]int{"kern.critical": {all, duty}, "kern.info": {all}}},
		"by app":      {[]Rule{{When: when(t, "app is pumpd and severity at least critical"), Send: []int{duty}}}, false, map[string][]int{"kern.critical": {all, duty}}},
		"at the end":  {[]Rule{{When: when(t, "app is pumpd"), Send: []int{duty}, Done: true}}, false, map[string][]int{"kern.critical": {all, duty}}},
		"kept too":    {[]Rule{{When: when(t, "any"), Send: []int{duty}}, {When: when(t, "severity is info"), Send: []int{all}}}, false, map[string][]int{"kern.info": {all, duty}}},
		"dropped":     {[]Rule{{When: when(t, "any"), Send: []int{duty}}}, true, map[string][]int{"kern.info": {duty}}},
	} {
		o := Otherwise{Send: []int{all}, Passing: []int{duty}}
		if c.drop {
			o = Otherwise{Drop: true, Passing: []int{duty}}
		}
		table := NewTable(c.rules, o, 2)
		matrix := table.Matrix()
		for priority, want := range c.want {
			b := record.Batch{Records: []record.Record{recordOf(priority, "pumpd")}}
			var m Routing
			counts := table.Route(&b, &m)
			var got []int
			for o := range 2 {
				if m.Has(0, o) {
					got = append(got, o)
				}
			}
			if !reflect.DeepEqual(got, want) || (counts.Dropped == 1) != c.drop {
				t.Errorf("%s: %s goes to %v, counted %+v, want %v", name, priority, got, counts, want)
			}
			if way := table.Explain(&b.Records[0]); !reflect.DeepEqual(way.Outlets, want) {
				t.Errorf("%s: %s is explained as %+v", name, priority, way)
			}
			if reach := matrix[b.Records[0].Priority]; name == "by priority" && !reflect.DeepEqual(reach.Surely, want) {
				t.Errorf("%s: the matrix has %+v", name, reach)
			}
		}
	}
}
