package api

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestATallyThatWasRewrittenAndHasGrownIsNoticed(t *testing.T) {
	now := time.Now()
	status := func(lines int, tail string) []byte {
		return fmt.Appendf(nil, `{"outlets": [{"path": "/var/log/all.log", "tally_lines": %d, "tally_hash": "z", "tally_tail": [%s]}]}`, lines, tail)
	}
	before := map[string]tallyMark{"/var/log/all.log": {Lines: 5, Hash: "e"}}
	for tail, trouble := range map[string]bool{`"e", "f", "z"`: false, `"x", "f", "z"`: true, `"f", "z"`: false, `"d", "e", "f", "z"`: false, ``: false} {
		if got := compareTallies(before, status(7, tail), now)["/var/log/all.log"].Trouble; (got != "") != trouble {
			t.Errorf("with the tail %s: %q", tail, got)
		}
	}
}

func TestATallyThatWasRewrittenIsNoticed(t *testing.T) {
	now := time.Now()
	status := func(lines int, hash string) []byte {
		return fmt.Appendf(nil, `{"outlets": [{"path": "/var/log/all.log", "tally_lines": %d, "tally_hash": %q}], "tended": [{"path": "/srv/kiosk.log", "tally_lines": 1, "tally_hash": "k"}]}`, lines, hash)
	}
	before := compareTallies(nil, status(5, "e"), now)
	for _, c := range []struct {
		lines int
		hash  string
		want  string
	}{
		{5, "e", ""}, {6, "f", ""}, {0, "", ""}, {4, "d", "it had 5 lines, and has 4: it was cut short"}, {5, "x", "its line 5 has another hash than before: it was written anew"},
	} {
		after := compareTallies(before, status(c.lines, c.hash), now)
		if got := after["/var/log/all.log"]; got.Trouble != c.want || after["/srv/kiosk.log"].Trouble != "" {
			t.Errorf("%d lines, %s: %+v", c.lines, c.hash, after)
		}
		later := compareTallies(after, status(c.lines+10, "z"), now.Add(time.Hour))
		if got := later["/var/log/all.log"].Trouble; got != c.want {
			t.Errorf("an hour later it says %q", got)
		}
		if got := compareTallies(later, status(c.lines+10, "z"), now.Add(2*troubleTime)); strings.Contains(fmt.Sprint(got), "it ") {
			t.Errorf("much later it says %+v", got)
		}
	}
	if got := compareTallies(before, []byte("[]"), now); len(got) != 2 {
		t.Errorf("a status of another kind gives %+v", got)
	}
}
