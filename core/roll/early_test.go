package roll

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// However often somebody orders a set to be rolled, keep removes no line that would be
// there without any order, also across a restart; and what is kept stays bounded.
func TestAnOrderedRollMakesKeepRemoveNothing(t *testing.T) {
	for name, set := range map[string]Settings{
		"by pieces":          {Size: 200, Keep: Keep{Pieces: 3}},
		"by days":            {Every: Every{word: "day"}, Keep: Keep{Days: 3}},
		"by days and pieces": {Every: Every{word: "day"}, Size: 400, Keep: Keep{Days: 2, Pieces: 4}},
		"compressed":         {Size: 200, Keep: Keep{Pieces: 3}, Compress: Gzip},
	} {
		t.Run(name, func(t *testing.T) {
			quiet, ordered := newFixture(t, set), newFixture(t, set)
			for i := range 200 {
				line := fmt.Sprintf("line %d", i)
				for _, f := range []*fixture{quiet, ordered} {
					f.now = f.now.Add(time.Hour)
					f.write(line)
				}
				if i%3 == 0 {
					if _, err := ordered.RollEarly(); err != nil {
						t.Fatal(err)
					}
				}
				quiet.tidy()
				ordered.tidy()
				if i%50 == 49 {
					ordered.Close()
					ordered.start()
				}
				has := ordered.lines()
				for _, line := range quiet.lines() {
					if !slices.Contains(has, line) {
						t.Fatalf("at %d %q is gone; there are %s", i, line, strings.Join(has, ", "))
					}
				}
			}
			if n, most := len(ordered.lines()), 2*len(quiet.lines())+60; n > most {
				t.Errorf("%d lines are kept, where %d are without orders", n, len(quiet.lines()))
			}
			if pieces, err := Pieces(ordered.live); err != nil || len(pieces) < 4 {
				t.Errorf("nothing was rolled early: %d pieces, %v", len(pieces), err)
			}
			ordered.verify("")
		})
	}
}
