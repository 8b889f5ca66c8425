package condition_test

import (
	"strings"
	"testing"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

func TestAShapeHoldsForAllTextsOfItsKind(t *testing.T) {
	r := func(text string) *record.Record { return &record.Record{Text: []byte(text)} }
	for where, holds := range map[string]map[string]bool{
		`shape is "Pump P… stalled after … s"`:          {"Pump P07 stalled after 3 s": true, "Pump P112 stalled after 0.25 s": true, "Pump P07 started after 3 s": false, "": false},
		`shape is "Pump P9 stalled after 1 s"`:          {"Pump P07 stalled after 3 s": true, "Pump stalled after 3 s": false},
		`shape is not "valve closed"`:                   {"valve closed": false, "valve closed 2": true},
		`shape in ("valve closed", "valve 3 opened")`:   {"valve closed": true, "valve 77 opened": true, "valve opened": false},
		`shape is closed and severity at least warning`: {"closed": true, "opened": false},
	} {
		c, err := condition.Parse(where, nil)
		if err != nil {
			t.Errorf("%s: %v", where, err)
			continue
		}
		again, err := condition.Parse(c.String(), nil)
		if err != nil || again.String() != c.String() {
			t.Errorf("%s is in normal form %s, which is %v, %v", where, c, again, err)
		}
		for text, want := range holds {
			if got, why := c.Explain(r(text)); got != want || c.Match(r(text)) != want || again.Match(r(text)) != want || why == "" {
				t.Errorf("%s, %q: %v, as %s", where, text, got, why)
			}
		}
	}
	c, _ := condition.Parse(`shape is "valve 7 closed"`, nil)
	if _, why := c.Explain(r("valve\x1b 9")); strings.Contains(why, "\x1b") || !strings.Contains(why, `shape is "valve … closed"`) {
		t.Errorf("it is explained as %q", why)
	}
	for where, says := range map[string]string{
		"shape":            "is, in",
		`shape contains x`: "is, in",
		"shape is":         "the text of a record, or its shape is expected",
		"shap is x":        "did you mean shape?",
	} {
		if _, err := condition.Parse(where, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", where, err)
		}
	}
}
