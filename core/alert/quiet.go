package alert

import (
	"slices"
	"time"
)

// Quiet is a time of each day, or of some days, in which nobody is told.
type Quiet struct {
	From, To int            // minutes of the day; one that ends before it begins ends on the next day; alike for the whole day
	Days     []time.Weekday // on which it begins, none for each
}

// IsQuiet tells whether nobody is to be told at a time.
func (a *Alert) IsQuiet(at time.Time) bool {
	if a.Zone != nil {
		at = at.In(a.Zone)
	}
	minute, day := at.Hour()*60+at.Minute(), at.Weekday()
	before := (day + 6) % 7
	return slices.ContainsFunc(a.Quiet, func(q Quiet) bool {
		switch {
		case q.From == q.To:
			return q.on(day)
		case q.From < q.To:
			return q.on(day) && minute >= q.From && minute < q.To
		}
		return q.on(day) && minute >= q.From || q.on(before) && minute < q.To
	})
}

func (q Quiet) on(day time.Weekday) bool { return len(q.Days) == 0 || slices.Contains(q.Days, day) }
