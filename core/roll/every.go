package roll

import (
	"fmt"
	"strings"
	"time"
)

// Every is how often a live file is rolled, on the wall clock. The zero Every is never.
type Every struct {
	word string
	step time.Duration // for an interval of up to a day; 0 where word is day, week or month
}

// ParseEvery reads hour, day, week, month, or an interval such as 30s, 5m or 2h, in any letter case.
func ParseEvery(s string) (Every, error) {
	word := strings.ToLower(s)
	switch word {
	case "day", "week", "month":
		return Every{word: word}, nil
	case "hour":
		return Every{word, time.Hour}, nil
	}
	step, err := time.ParseDuration(word)
	if err != nil || step < time.Second || step > 24*time.Hour || step%time.Second != 0 {
		return Every{}, fmt.Errorf("%q is not an interval", s)
	}
	return Every{word, step}, nil
}

// String returns the interval as the plan has it.
func (e Every) String() string { return e.word }

// Never tells whether there is no interval.
func (e Every) Never() bool { return e.word == "" }

// Next returns the first moment after t at which the wall clock of t's
// location completes an interval. Intervals count from midnight, those of an
// hour or less also across a change of the clock.
func (e Every) Next(t time.Time) time.Time {
	y, m, d := t.Date()
	midnight := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, t.Location()) }
	switch e.word {
	case "day":
		return midnight(y, m, d+1)
	case "week": // weeks begin on Monday
		return midnight(y, m, d+7-(int(t.Weekday())+6)%7)
	case "month":
		return midnight(y, m+1, 1)
	}
	if e.step <= time.Hour {
		_, offset := t.Zone()
		shift := time.Duration(offset) * time.Second
		return t.Add(shift).Truncate(e.step).Add(e.step - shift)
	}
	h, mi, s := t.Clock()
	since := time.Duration(h*3600+mi*60+s) * time.Second
	for k := since/e.step + 1; ; k++ {
		next := time.Date(y, m, d, 0, 0, int(k*e.step/time.Second), 0, t.Location())
		if tomorrow := midnight(y, m, d+1); next.After(tomorrow) {
			next = tomorrow
		}
		if next.After(t) {
			return next
		}
	}
}
