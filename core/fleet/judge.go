package fleet

import (
	"fmt"
	"maps"
	"slices"
)

// Vitals are an agent's counters at a time, by which a plan that it has taken is judged.
type Vitals struct {
	Closes  bool // the balance
	Faults  int64
	Intakes map[string]IntakeVitals
	Outlets map[string]OutletVitals
}

// IntakeVitals are those of an intake.
type IntakeVitals struct {
	Passed, Spoiled int64 // Spoiled were unreadable, unparsed or limited
	Trouble         string
}

// OutletVitals are those of an outlet.
type OutletVitals struct {
	In, Refused int64
	Trouble     string
}

// enough is how many records say that records come: where there were as many within
// the time before, none within half as long a time is no chance.
const enough = 20

// Harm tells what harm a plan does, "" for none. before is as long before the change, at
// the change, as the plan is judged for; half is the middle of that time: until then what
// stood there under the plan before may still come. ended says that the time is over, and
// what is missing has had its time to come. What is in trouble then may come out of it: see
// [Trouble].
func Harm(before, at, half, now Vitals, ended bool) string {
	switch {
	case at.Closes && !now.Closes:
		return "the balance does not close any more"
	case now.Faults > at.Faults:
		return "a part of the agent has failed"
	}
	for _, name := range slices.Sorted(maps.Keys(now.Intakes)) {
		was, is, early := at.Intakes[name], now.Intakes[name], before.Intakes[name]
		switch {
		case is.Spoiled > was.Spoiled && was.Spoiled == early.Spoiled:
			return fmt.Sprintf("intake %s gets what cannot be parsed, or is over its limit, which it did not before", name)
		case ended && was.Passed-early.Passed >= enough && is.Passed == half.Intakes[name].Passed:
			return fmt.Sprintf("intake %s had %d records in the time before, and none in the second half of the time since", name, was.Passed-early.Passed)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(now.Outlets)) {
		was, is, early := at.Outlets[name], now.Outlets[name], before.Outlets[name]
		if is.Refused > was.Refused && was.Refused == early.Refused {
			return fmt.Sprintf("outlet %s has records refused, which it had not before", name)
		}
	}
	if !ended {
		return ""
	}
	passed, kept := changes(half, now)
	if _, keptBefore := changes(before, at); keptBefore >= enough && passed >= enough && kept == 0 {
		return fmt.Sprintf("of the last %d records none went to an outlet", passed)
	}
	return ""
}

// Trouble tells what is in trouble that was not before the change, "" for nothing.
func Trouble(at, now Vitals) string {
	for _, name := range slices.Sorted(maps.Keys(now.Intakes)) {
		if why := now.Intakes[name].Trouble; why != "" && at.Intakes[name].Trouble == "" {
			return fmt.Sprintf("intake %s is in trouble: %s", name, why)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(now.Outlets)) {
		if why := now.Outlets[name].Trouble; why != "" && at.Outlets[name].Trouble == "" {
			return fmt.Sprintf("outlet %s is in trouble: %s", name, why)
		}
	}
	return ""
}

// changes tells how many records came, and went to outlets, between two times.
func changes(from, to Vitals) (passed, kept int64) {
	for name, in := range to.Intakes {
		passed += in.Passed - from.Intakes[name].Passed
	}
	for name, out := range to.Outlets {
		kept += out.In - from.Outlets[name].In
	}
	return passed, kept
}
