package fleet

import (
	"strings"
	"testing"
)

func TestHarmOfAPlan(t *testing.T) {
	vitals := func(passed, spoiled, in int64) Vitals {
		return Vitals{Closes: true, Intakes: map[string]IntakeVitals{"wire": {Passed: passed, Spoiled: spoiled}}, Outlets: map[string]OutletVitals{"all": {In: in}}}
	}
	open := vitals(120, 0, 120)
	open.Closes = false
	faulty := vitals(120, 0, 120)
	faulty.Faults = 1
	troubled := vitals(120, 0, 120)
	troubled.Outlets["all"] = OutletVitals{In: 120, Trouble: "the disk is full"}
	refused := vitals(120, 0, 120)
	refused.Outlets["all"] = OutletVitals{In: 120, Refused: 1}
	other := vitals(120, 0, 120)
	other.Intakes["more"] = IntakeVitals{Spoiled: 1}
	renamed := vitals(0, 0, 120)
	renamed.Intakes = map[string]IntakeVitals{"net": {}}
	for _, c := range []struct {
		name            string
		before, at, now Vitals
		early, ended    string
	}{
		{"all goes on", vitals(0, 0, 0), vitals(100, 0, 100), vitals(120, 0, 120), "", ""},
		{"starved", vitals(0, 0, 0), vitals(100, 0, 100), vitals(100, 0, 100), "", "intake wire had 100 records in the time before, and none in the second half of the time since"},
		{"too few to tell", vitals(85, 0, 85), vitals(100, 0, 100), vitals(100, 0, 100), "", ""},
		{"not known before", Vitals{}, Vitals{Closes: true}, vitals(0, 0, 0), "", ""},
		{"spoiled", vitals(0, 0, 0), vitals(100, 0, 100), vitals(120, 1, 120), "intake wire gets what cannot", "intake wire gets what cannot"},
		{"spoiled before, too", vitals(0, 0, 0), vitals(100, 1, 100), vitals(120, 2, 120), "", ""},
		{"spoiled long ago", vitals(0, 1, 0), vitals(100, 1, 100), vitals(120, 2, 120), "intake wire gets what cannot", "intake wire gets what cannot"},
		{"nothing kept", vitals(0, 0, 0), vitals(100, 0, 100), vitals(120, 0, 100), "", "of the last 20 records none went to an outlet"},
		{"nothing was kept before", vitals(0, 0, 100), vitals(100, 0, 100), vitals(120, 0, 100), "", ""},
		{"does not close", vitals(0, 0, 0), vitals(100, 0, 100), open, "the balance does not close any more", "the balance"},
		{"did not close", vitals(0, 0, 0), open, open, "", "intake wire had 120"},
		{"faults", vitals(0, 0, 0), vitals(100, 0, 100), faulty, "a part of the agent has failed", "a part"},
		{"refused", vitals(0, 0, 0), vitals(100, 0, 100), refused, "outlet all has records refused", "outlet all has"},
		{"a new intake hears nonsense", vitals(0, 0, 0), vitals(100, 0, 100), other, "intake more gets what cannot", "intake more"},
		{"an intake is taken away", vitals(0, 0, 0), vitals(100, 0, 100), renamed, "", ""},
	} {
		for _, ended := range []bool{false, true} {
			want := c.early
			if ended {
				want = c.ended
			}
			if got := Harm(c.before, c.at, c.at, c.now, ended); !strings.HasPrefix(got, want) || want == "" && got != "" {
				t.Errorf("%s, ended %v: %q, want %q", c.name, ended, got, want)
			}
		}
	}
	if got := Harm(vitals(0, 0, 0), vitals(100, 0, 100), vitals(110, 0, 110), vitals(110, 0, 110), true); !strings.HasPrefix(got, "intake wire had 100") {
		t.Errorf("what was read of the plan before counts for this one: %q", got)
	}
	if got := Trouble(vitals(0, 0, 0), troubled); got != "outlet all is in trouble: the disk is full" {
		t.Error(got)
	}
	if got := Trouble(troubled, troubled); got != "" {
		t.Error(got)
	}
}
