package route

import (
	"math/rand/v2"
	"reflect"
	"testing"

	"oakbarrel/core/record"
)

// Whatever the rules and the records, each rule has counted those that it is explained to act on.
func TestRulesCountWhatTheyActOn(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 1))
	for range 300 {
		table := randomTable(t, rnd)
		for i := range table.rules {
			table.rules[i].Name = string(rune('a' + i))
		}
		table = NewTable(table.rules, table.otherwise, 3)
		want := make([]int64, len(table.rules)+1)
		var m Routing
		for range 20 {
			var b record.Batch
			for range 1 + rnd.IntN(5) {
				r := record.Record{Priority: record.Priority(rnd.IntN(192)), App: []byte{"abc"[rnd.IntN(3)]}, Text: []byte{"xy"[rnd.IntN(2)]}}
				b.Records = append(b.Records, r)
				way := table.Explain(&r)
				for i, rule := range way.Rules {
					if rule.Matched && rule.Reached {
						want[i]++
					}
				}
				if way.Otherwise {
					want[len(table.rules)]++
				}
			}
			table.Route(&b, &m)
			if rnd.IntN(2) == 0 { // it had to wait, and is judged again
				m.Undo(&b)
				table.Route(&b, &m)
			}
			table.Count(&m)
			table.Count(&m) // counts nothing twice
		}
		for i, matched := range table.Matched() {
			if matched.Records != want[i] {
				t.Fatalf("rule %q has counted %d records, and acted on %d", matched.Rule, matched.Records, want[i])
			}
		}
	}
}

func TestCountsGoOnUnderTheNextTable(t *testing.T) {
	rule := func(name, condition string) Rule {
		return Rule{Name: name, When: when(t, condition), Send: []int{0}}
	}
	count := func(table *Table, app string) {
		var m Routing
		table.Route(&record.Batch{Records: []record.Record{recordOf("user.info", app)}}, &m)
		table.Count(&m)
	}
	first := NewTable([]Rule{rule("pumps", "app is pumpd"), rule("doors", "app is door-badge"), rule("pumps", "app is pump-ctl")}, Otherwise{Drop: true}, 1)
	for _, app := range []string{"pumpd", "pump-ctl", "door-badge", "ticketd"} {
		count(first, app)
	}
	next := NewTable([]Rule{rule("probes", "app is salinity-probe"), rule("pumps", "app is pumpd")}, Otherwise{Send: []int{0}}, 1)
	next.CountOn(first)
	for _, app := range []string{"pumpd", "salinity-probe", "door-badge"} {
		count(next, app)
	}
	if got, want := next.Matched(), []Matched{{"probes", 1}, {"pumps", 3}, {"", 2}}; !reflect.DeepEqual(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

func TestCountingAllocatesNothing(t *testing.T) {
	table := NewTable([]Rule{{Name: "all", When: when(t, "any"), Send: []int{0}}, {Name: "pumps", When: when(t, "app is pumpd"), Send: []int{1}}}, Otherwise{Drop: true}, 2)
	b, m := record.Batch{Records: []record.Record{recordOf("user.info", "pumpd"), recordOf("auth.err", "ticketd")}}, Routing{}
	table.Route(&b, &m)
	if n := testing.AllocsPerRun(100, func() { table.Route(&b, &m); table.Count(&m) }); n != 0 {
		t.Errorf("a batch allocates %v times", n)
	}
}
