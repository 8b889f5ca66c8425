package demo

import (
	"math/rand/v2"
	"path/filepath"
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
		for _, url := range []string{"", "http://127.0.0.1:8440"} { // without a store, and with one
			a := &Agent{Name: name, Plan: filepath.Join(t.TempDir(), "plan.yaml")}
			if err := writePlan(a, map[string]string{"Dir": "/srv/lantern", "URL": url, "TokenFile": "/srv/token", "DutyFile": "/srv/duty"}); err != nil {
				t.Fatal(err)
			}
			p, findings, err := plan.Load(a.Plan)
			if len(findings) > 0 || err != nil || p.Service.URLs != url {
				t.Error(findings, err)
			}
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
