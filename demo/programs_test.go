package demo

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

func TestEveryTextIsAMessage(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	parser := wire.Parser{Default: record.DefaultPriority}
	for _, p := range programs {
		says := append(append([]string{}, p.routine...), p.warnings...)
		for _, f := range faults {
			for _, s := range f.steps {
				if f.program == p.app {
					says = append(says, s.says)
				}
			}
		}
		for _, text := range says {
			filled := fill(text, rnd)
			r := record.Record{Received: record.StampOf(time.Now())}
			parser.Parse(&r, p.message(filled, time.Now()))
			severity, _, _ := strings.Cut(text, " ")
			if r.Unparsed || r.Severity().String() != severity || r.Facility().String() != p.facility || string(r.App) != p.app || string(r.Host) != p.host {
				t.Errorf("%s: %q is read as %s", p.app, filled, r.AppendJSON(nil))
			}
			if strings.ContainsAny(filled, "{}") || strings.HasSuffix(text, "]") && !r.HasFields() && !p.old {
				t.Errorf("%s: %q", p.app, filled)
			}
		}
	}
}

func TestThePlansHaveNoFindings(t *testing.T) {
	for _, name := range hosts {
		source, err := plans.ReadFile("plans/" + name + ".yaml")
		if err != nil {
			t.Fatal(err)
		}
		if _, findings := plan.Parse(name, []byte(strings.ReplaceAll(string(source), "DIR", "/srv/lantern"))); len(findings) > 0 {
			t.Error(findings)
		}
	}
}

func TestAFaultTellsItsStoryAgainAndAgain(t *testing.T) {
	start := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	for _, h := range newHappening(start) {
		var total time.Duration
		for _, s := range h.steps {
			total += s.after
		}
		if total >= h.every {
			t.Errorf("the story of %s takes %v and begins again after %v", h.program.app, total, h.every)
		}
	}
}
