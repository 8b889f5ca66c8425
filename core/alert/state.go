package alert

import (
	"cmp"
	"math"
	"slices"
)

// Times are microseconds since 1970.

// State is what an alert knows of one who: a host, an app, another value, or all together.
type State struct {
	Slots []Slot  `json:"slots,omitempty"` // in order; those without records are left out
	First int64   `json:"first"`           // when a record came first
	Last  int64   `json:"last"`            // and last
	Gaps  []Gap   `json:"gaps,omitempty"`  // of Silent
	Heard int     `json:"heard,omitempty"` // likewise: in how many quarters of a span
	Holds bool    `json:"holds,omitempty"` // it is so now
	Since int64   `json:"since,omitempty"` // when that began
	Until int64   `json:"until,omitempty"` // when it was so last
	Worst float64 `json:"worst,omitempty"` // since then: how many, which value, which share, or seconds
}

// Slot is what is counted in a part of a span.
type Slot struct {
	At    int64   `json:"a"` // its number
	Count int64   `json:"n"`
	Of    int64   `json:"o,omitempty"` // of them, for Share
	Value float64 `json:"v,omitempty"` // the greatest, or the least, for Value
}

// Gap is the longest silence of a day.
type Gap struct {
	Day     int64 `json:"d"` // since 1970
	Seconds int64 `json:"s"`
}

// Hit is what a batch says to an alert of one who.
type Hit struct {
	At, To  int64 // the first and last slot, over which its records are spread evenly
	Count   int64
	Of      int64   // of them, for Share
	Value   float64 // the greatest, or the least, for Value
	Arrived int64
}

// Change is what has changed.
type Change int

// The changes.
const (
	None  Change = iota
	Began        // it is so, and was not before
	Goes         // it is so still, or again at once
	Ended        // it is over
)

// Take adds what batches say, in no order, and tells what has changed. A silence is usual only
// where nothing has kept records from coming, since a time. Call Look now and then.
func (a *Alert) Take(s *State, hits []Hit, since int64) Change {
	least, most := int64(math.MaxInt64), int64(math.MinInt64)
	for _, h := range hits {
		a.heard(s, h.Arrived, since)
		if a.Kind != Silent && a.Kind != NewShape {
			s.add(a, h)
		}
		least, most = min(least, h.At), max(most, h.To)
	}
	defer s.cut() // once those are judged that came late
	switch a.Kind {
	case More, Value, Share:
		return a.judge(s, least, most+parts)
	case Silent:
		if s.Holds {
			s.Holds = false
			return Ended
		}
	case NewShape:
		if s.Since == 0 {
			s.Holds, s.Since, s.Until = true, s.First, s.First
			return Began
		}
	}
	return None
}

// cut lets go of the oldest slots where there are too many.
func (s *State) cut() {
	if len(s.Slots) > mostSlots {
		s.Slots = slices.Delete(s.Slots, 0, len(s.Slots)-mostSlots)
	}
}

// heard notes that something came at a time.
func (a *Alert) heard(s *State, at, since int64) {
	if s.First == 0 {
		s.First, s.Last, s.Heard = at, at, 1
		return
	}
	if quarter := a.Span.Microseconds() / 4; a.Kind == Silent && floor(at, quarter) > floor(s.Last, quarter) {
		s.Heard++
	}
	if gap := (at - s.Last) / 1e6; a.Kind == Silent && !s.Holds && gap > 0 && s.Last >= since { // a silence that is told is not one that is usual
		s.noteGap(Gap{floor(at, dayMicros), gap})
	}
	s.First, s.Last = min(s.First, at), max(s.Last, at)
}

const dayMicros = 24 * 3600 * 1e6

func (s *State) noteGap(g Gap) {
	if n := len(s.Gaps); n > 0 && s.Gaps[n-1].Day >= g.Day {
		s.Gaps[n-1].Seconds = max(s.Gaps[n-1].Seconds, g.Seconds)
		return
	}
	s.Gaps = append(s.Gaps, g)
	if n := len(s.Gaps) - gapDays; n > 0 {
		s.Gaps = slices.Delete(s.Gaps, 0, n)
	}
}

// usual returns the longest silence of the last days, in seconds.
func (s *State) usual(now int64) (longest int64) {
	for _, g := range s.Gaps {
		if g.Day > floor(now, dayMicros)-gapDays {
			longest = max(longest, g.Seconds)
		}
	}
	return longest
}

func (s *State) add(a *Alert, h Hit) {
	h.each(func(part Slot) {
		at, found := slices.BinarySearchFunc(s.Slots, part.At, compareSlot)
		if !found {
			s.Slots = slices.Insert(s.Slots, at, part)
			return
		}
		s.Slots[at] = a.plus(s.Slots[at], part)
	})
}

// each gives the slots over which the records of a hit are spread.
func (h Hit) each(give func(Slot)) {
	n := min(h.To-h.At, mostSlots-1) + 1
	for i := range n {
		if count := h.Count*(i+1)/n - h.Count*i/n; count > 0 {
			give(Slot{h.To - n + 1 + i, count, h.Of*(i+1)/n - h.Of*i/n, h.Value})
		}
	}
}

// plus adds two parts of one slot.
func (a *Alert) plus(x, y Slot) Slot {
	return Slot{x.At, x.Count + y.Count, x.Of + y.Of, a.Worse(x.Value, y.Value)}
}

// within sums the slots of the span that ends with a slot.
func (a *Alert) within(slots []Slot, last int64) (sum Slot) {
	end, found := slices.BinarySearchFunc(slots, last, compareSlot)
	if found {
		end++
	}
	for i := end - 1; i >= 0 && slots[i].At > last-parts; i-- {
		if sum.Count == 0 {
			sum = slots[i]
			continue
		}
		sum = a.plus(sum, slots[i])
	}
	return sum
}

func compareSlot(s Slot, at int64) int { return cmp.Compare(s.At, at) }

// judge looks at the spans that end with one of some slots.
func (a *Alert) judge(s *State, first, last int64) Change {
	change := None
	for _, at := range s.Slots {
		if at.At < first || at.At > last {
			continue
		}
		worst, is := a.exceeds(s.Slots, at.At)
		if !is {
			continue
		}
		end := (at.At + 1) * a.slot()
		again := s.Until != 0 && end <= s.Until+a.Span.Microseconds() // it was told already
		switch {
		case !s.Holds && !again:
			s.Since, s.Worst, change = end-a.slot(), worst, Began
		case change == None:
			change = Goes
		}
		s.Holds, s.Until, s.Worst = true, max(s.Until, end), a.Worse(s.Worst, worst)
	}
	return change
}

// exceeds tells whether it is so in the span that ends with a slot, and how bad it is.
func (a *Alert) exceeds(slots []Slot, last int64) (worst float64, is bool) {
	sum := a.within(slots, last)
	switch a.Kind {
	case Value:
		return sum.Value, sum.Count > 0
	case Share:
		share := float64(sum.Of) / float64(max(sum.Count, 1))
		return share, sum.Count >= a.Least && share > a.Over
	}
	return float64(sum.Count), sum.Count > a.Than
}

// Worse returns the one of two that is worse: how many, which value, or which share.
func (a *Alert) Worse(x, y float64) float64 {
	if a.Kind == Fewer || a.Kind == Value && a.Under {
		return min(x, y)
	}
	return max(x, y)
}

// Look judges what time alone changes: what has not come, and what is over. Records are judged
// to be missing only where nothing has kept them from coming since a time.
func (a *Alert) Look(s *State, now, since int64) Change {
	switch a.Kind {
	case Fewer:
		return a.lookFewer(s, now, since)
	case Silent:
		silent := (now - s.Last) / 1e6
		longest := max(int64(a.Span.Seconds()), s.usual(now))
		switch {
		case s.First == 0 || silent <= longest || s.Heard < heardLeast || s.Last < since && now-since < a.Span.Microseconds():
			return None
		case s.Holds:
			s.Worst, s.Until = float64(silent), now
			return Goes
		}
		s.Holds, s.Since, s.Until, s.Worst = true, s.Last, now, float64(silent)
		return Began
	}
	lasts := a.Span
	if a.Kind == NewShape {
		lasts = shapeTime
	}
	if s.Holds && now > s.Until+lasts.Microseconds() {
		s.Holds = false
		return Ended
	}
	return None
}

func (a *Alert) lookFewer(s *State, now, since int64) Change {
	end := now - grace.Microseconds()
	last := floor(end, a.slot()) - 1 // the last slot that is over
	count := a.within(s.Slots, last).Count
	switch begins := end - a.Span.Microseconds() - a.slot(); {
	case count >= a.Than && s.Holds:
		s.Holds = false
		return Ended
	case count >= a.Than || s.First == 0 || s.First > begins || since > begins:
		return None
	case s.Holds:
		s.Until, s.Worst = end, min(s.Worst, float64(count))
		return Goes
	}
	s.Holds, s.Since, s.Until, s.Worst = true, end-a.Span.Microseconds(), end, float64(count)
	return Began
}
