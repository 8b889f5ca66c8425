package search

import (
	"math"
	"slices"
)

// What is remarkable about a shape in a span, beside the one before.
const (
	IsNew  = "new"    // there was never a record of it before a time
	Rose   = "risen"  // there are far more than to be expected
	Fell   = "fallen" // far fewer
	Ceased = "ceased" // none, where there were some
)

const (
	tellsUsual = 20 // records that a shape must have in both spans to tell what is usual
	fewShapes  = 5  // that must, for it to be told
	mostRatio  = 10
	leastGone  = 10 // records to be expected where their absence is told
)

// What tells what is remarkable about a shape, "" for nothing; newSince is the time from which
// on a shape is new, in microseconds since 1970. What is to be expected is as much as before,
// more or less by as much as shapes usually are: a host that is added makes none of them rise.
// Where there were no records before that time, none is new.
func (a *Shapes) What(c *ShapeCount, newSince int64) string {
	expected := float64(c.Before) * a.ratio
	apart := 5*math.Sqrt(expected) + 5 // what chance does
	n := float64(c.Count)
	switch {
	case c.Count > 0 && c.Known >= newSince && a.began < newSince:
		return IsNew
	case a.Before == 0:
		return ""
	case c.Count == 0 && expected >= leastGone:
		return Ceased
	case n >= 2*expected && n-expected >= apart:
		return Rose
	case n <= expected/2 && expected-n >= apart:
		return Fell
	}
	return ""
}

// ratioOf returns how many records a shape has for each that it had before: that of the one in
// the middle, so that some that are remarkable do not count.
func ratioOf(all []*ShapeCount) float64 {
	var ratios []float64
	for _, c := range all {
		if c.Count >= tellsUsual && c.Before >= tellsUsual {
			ratios = append(ratios, float64(c.Count)/float64(c.Before))
		}
	}
	if len(ratios) < fewShapes {
		return 1
	}
	slices.Sort(ratios)
	return max(1.0/mostRatio, min(ratios[len(ratios)/2], mostRatio))
}
