package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/record"
)

// No plan takes the reader's memory or time, and each says where it is too much.
func TestAPlanHasBounds(t *testing.T) {
	var block strings.Builder
	for n := range 200 {
		fmt.Fprintf(&block, "%sa:\n", strings.Repeat(" ", n))
	}
	for name, c := range map[string]struct{ source, want string }{
		"brackets":      {"oakbarrel: 1\nintakes: " + strings.Repeat("[", 20_000) + strings.Repeat("]", 20_000), "2:73: the plan is nested deeper than 64"},
		"indented keys": {block.String(), "the plan is nested deeper than 64"},
		"many parts":    {"oakbarrel: 1\nintakes: [" + strings.Repeat("a, ", 200_000) + "a]", "the plan has more than 100000 parts"},
		"many lines":    {"oakbarrel: 1\n" + strings.Repeat("#\n", 200_000), "1:1: the plan has more than 100000 lines and brackets"},
		"little memory": {"oakbarrel: 1\nmemory: 1MiB\notherwise: {drop: true}\n", "2:9: memory is less than 16 MiB"},
	} {
		begun := time.Now()
		_, findings := Parse("p.yaml", []byte(c.source))
		if len(findings) == 0 || !strings.Contains(findings[0].String(), c.want) {
			t.Errorf("%s: got %.200v", name, findings)
		}
		if took := time.Since(begun); took > 5*time.Second {
			t.Errorf("%s took %v", name, took)
		}
	}
	p, findings := Parse("p.yaml", []byte("oakbarrel: 1\nmemory: 64MiB\notherwise: {drop: true}\n"))
	if findings.Refused() || p.Memory != 64<<20 {
		t.Errorf("got %v", findings)
	}
}

// Conditions that name each other twice, in a chain, are judged once each.
func TestConditionsThatNameEachOtherAreAGraph(t *testing.T) {
	source := "oakbarrel: 1\nconditions:\n  c0: severity at least error\n"
	for n := 1; n <= 40; n++ {
		source += fmt.Sprintf("  c%d: (condition c%d and text has word a%d) or (condition c%d and not text has word a%d)\n", n, n-1, n, n-1, n)
	}
	source += "rules: [{name: all, when: condition c40 or condition c39, drop: true}]\notherwise: {drop: true}\n"
	done := make(chan bool)
	go func() {
		defer close(done)
		p, findings := Parse("p.yaml", []byte(source))
		if findings.Refused() {
			t.Errorf("got %v", findings)
			return
		}
		for severity, want := range map[record.Severity]bool{record.Error: true, record.Info: false} {
			r := &record.Record{Priority: record.MakePriority(record.Local0, severity), Text: []byte("pump a3 stalled")}
			if way := p.Table.Explain(r); len(way.Rules) == 0 || way.Rules[0].Matched != want {
				t.Errorf("%v: got %+v", severity, way)
			}
		}
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("it takes for ever")
	}
}
