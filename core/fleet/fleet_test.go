package fleet

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

func parse(t *testing.T, text string) *Condition {
	t.Helper()
	c, err := Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return c
}

func TestConditionsOnLabels(t *testing.T) {
	labels := map[string]string{"role": "gate", "site": "north"}
	for _, c := range []struct {
		text  string
		met   bool
		exact int
	}{
		{"any", true, 0},
		{"role is gate", true, 1},
		{"ROLE is gate", false, 0},
		{"role IS gate AND site in (north, south)", true, 2},
		{"role is pump or site is north", true, 1},
		{"role is pump or site is north and role is gate", true, 2},
		{"not role is pump", true, 1},
		{"role is not gate", false, 0},
		{"role not in (pump, ticket)", true, 1},
		{"site starts with nor", true, 1},
		{"site not starts with nor", false, 0},
		{"site exists and tank missing", true, 2},
		{"host is GATE-03", true, 100},
		{"host starts with gate- and role is gate", true, 2},
		{`(role is "gate")`, true, 1},
		{"tank is x", false, 0},
	} {
		met, exact := parse(t, c.text).Match("gate-03", labels)
		if met != c.met || met && exact != c.exact {
			t.Errorf("%s: %v, %d; want %v, %d", c.text, met, exact, c.met, c.exact)
		}
	}
}

func TestMistakesInConditionsOnLabels(t *testing.T) {
	for text, want := range map[string]string{
		"":                  "0: a test is missing; " + howToTest,
		"role":              "4: what is asked of role is missing; " + howToTest,
		"role is":           "7: a value is missing; " + howToTest,
		"role is gate site": `13: "site" is not expected here; put and, or or between two tests`,
		"role in gate":      "8: a list is missing; write role in (X, Y)",
		"role in (a, b":     "13: a list is not closed; write )",
		"(role is a":        "10: a bracket is not closed; write )",
		`role is "a`:        "8: a quote is not closed; end the text with a quote",
		"role = gate":       "5: '=' is not expected here; put the text into quotes",
		"role is a and":     "13: a test is missing; " + howToTest,
	} {
		_, err := Parse(text)
		var e *Error
		if !errors.As(err, &e) || fmt.Sprintf("%d: %v", e.Offset, e) != want {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
	if _, err := Parse(strings.Repeat("(", 1000)); err == nil {
		t.Error("a thousand brackets are read")
	}
}

func TestTheMostExactAssignmentDecides(t *testing.T) {
	all := []Assignment{{"all", "ground", parse(t, "any")}, {"gates", "gate", parse(t, "role is gate")}, {"north", "cold", parse(t, "site is north")}, {"northern gates", "gate-north", parse(t, "role is gate and site is north")}, {"one", "trial", parse(t, "host is gate-07")}}
	for _, c := range []struct{ host, labels, plan, why string }{
		{"kelp-01", "", "ground", "all is met: any"},
		{"gate-01", "role=gate site=south", "gate", "gates is the most exact: role is gate; met too: all"},
		{"gate-02", "role=gate site=north", "gate-north", "northern gates is the most exact: role is gate and site is north; met too: gates, north, all"},
		{"gate-07", "role=gate site=north", "trial", "one is the most exact: host is gate-07; met too: northern gates, gates, north, all"},
	} {
		d := Decide(c.host, labelsOf(c.labels), all)
		if d.By == nil || d.By.Plan != c.plan || d.Why() != c.why {
			t.Errorf("%s: %+v, %s", c.host, d.By, d.Why())
		}
	}
	d := Decide("x", labelsOf("role=gate site=north"), all[:3])
	if d.By != nil || d.Why() != "as exact as each other are gates, north, which want different plans: make one more exact" {
		t.Errorf("%+v, %s", d.By, d.Why())
	}
	if d := Decide("x", nil, all[1:]); d.By != nil || d.Why() != "no assignment is met" {
		t.Errorf("%+v, %s", d.By, d.Why())
	}
}

func labelsOf(text string) map[string]string {
	labels := map[string]string{}
	for _, word := range strings.Fields(text) {
		name, value, _ := strings.Cut(word, "=")
		labels[name] = value
	}
	return labels
}

func TestValuesOfAHost(t *testing.T) {
	labels := labelsOf("role=gate site=north")
	ofLabels := []LabelValue{{"site", "north", "port", "514"}, {"site", "south", "port", "515"}, {"role", "gate", "folder", "/srv"}, {"role", "gate", "tank", "1"}, {"site", "north", "tank", "2"}}
	if _, err := Values(labels, ofLabels, nil); err == nil || !strings.Contains(err.Error(), "the labels role: gate and site: north give @{tank} different values") {
		t.Error(err)
	}
	values, err := Values(labels, ofLabels, map[string]string{"tank": "7", "folder": "/var"})
	if got := fmt.Sprint(values); err != nil || got != "map[folder:/var port:514 role:gate site:north tank:7]" {
		t.Error(got, err)
	}
}

func TestWaves(t *testing.T) {
	for _, c := range []struct {
		text string
		n    int
		want []int
	}{
		{"1, 10%, all", 40, []int{1, 3, 36}}, {"1, 10%, all", 1, []int{1}}, {"1,10%,all", 5, []int{1, 4}}, {"all", 3, []int{3}}, {"2", 10, []int{2, 8}},
		{"50%, 10%", 10, []int{5, 5}}, {"1, 10%, all", 0, nil}, {"1, 10%, all", 2000, []int{1, 199, 1800}},
	} {
		waves, err := ParseWaves(c.text)
		if got := Waves(waves, c.n); err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s of %d: %v, %v", c.text, c.n, got, err)
		}
	}
	for _, text := range []string{"", "0", "110%", "x", "1,,2", "-1", "NaN%", strings.Repeat("1,", 30) + "1"} {
		if waves, err := ParseWaves(text); err == nil {
			t.Errorf("%q: %v", text, waves)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`role is gate and site in (north, "so uth") or not host starts with x`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse(text)
		if err != nil {
			var e *Error
			if !errors.As(err, &e) || e.Offset < 0 || e.Offset > len(text) {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		c.Match("x", map[string]string{"role": "gate"})
	})
}
