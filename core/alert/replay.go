package alert

import (
	"cmp"
	"maps"
	"slices"
	"time"
)

// Gather is for how long others that join are gathered before a person is told again: a storm is
// one notice.
const Gather = 15 * time.Minute

// Past gathers what has come in a span of the past, for Replay. The zero Past is empty.
type Past struct {
	of    map[string]*past
	slots int
}

type past struct {
	slots map[int64]Slot
	first int64 // when a record came first
}

const (
	mostWho   = 1000    // that are looked at each by itself
	mostParts = 500_000 // slots of the past
)

// Who returns under which name one of many is looked at: those that are too many together. known
// tells whether one is already, of so many.
func Who(who string, known bool, of int) string {
	if known || of < mostWho {
		return who
	}
	return Others
}

// Add adds what a part of the past says of one who, and tells whether there is room for more.
func (p *Past) Add(a *Alert, who string, h Hit) bool {
	if p.of == nil {
		p.of = map[string]*past{}
	}
	who = Who(who, p.of[who] != nil, len(p.of))
	of := p.of[who]
	if of == nil {
		of = &past{slots: map[int64]Slot{}, first: h.Arrived}
		p.of[who] = of
	}
	of.first = min(of.first, h.Arrived)
	h.each(func(part Slot) {
		old, known := of.slots[part.At]
		if !known {
			p.slots++
			of.slots[part.At] = part
			return
		}
		of.slots[part.At] = a.plus(old, part)
	})
	return p.slots < mostParts
}

// Telling is when a person would have been told, and what.
type Telling struct {
	At    int64 // microseconds since 1970
	Line  string
	Count int // of those that it would have been about
}

// Replay tells when a person would have been told, the oldest first; from and to are the ends of
// what is known.
func (a *Alert) Replay(p *Past, from, to int64) (told []Telling) {
	for _, who := range slices.Sorted(maps.Keys(p.of)) {
		for _, t := range a.replay(p.of[who], from, to) {
			t.Line = a.Line(who, &State{Worst: t.worst})
			told = append(told, t.Telling)
		}
	}
	slices.SortStableFunc(told, func(x, y Telling) int { return cmp.Compare(x.At, y.At) })
	var one []Telling // what is gathered together
	for _, t := range told {
		if n := len(one); n > 0 && t.At-one[n-1].At < Gather.Microseconds() {
			one[n-1].Count++
			continue
		}
		t.Count = 1
		one = append(one, t)
	}
	return one
}

type replayed struct {
	Telling
	worst float64
}

func (a *Alert) replay(of *past, from, to int64) (told []replayed) {
	slots := slices.SortedFunc(maps.Values(of.slots), func(x, y Slot) int { return cmp.Compare(x.At, y.At) })
	add := func(at int64, worst float64) { told = append(told, replayed{Telling{At: at}, worst}) }
	switch a.Kind {
	case NewShape:
		add(of.first, 0)
	case Silent:
		a.replaySilences(slots, to, add)
	case Fewer:
		holds := false
		for at := floor(max(from, of.first), a.slot()) + parts; at < floor(to-grace.Microseconds(), a.slot()); at++ {
			count := a.within(slots, at).Count
			if is := count < a.Than; is != holds {
				if holds = is; is {
					add((at+1)*a.slot(), float64(count))
				}
			}
		}
	default:
		until := int64(0)
		for _, s := range slots {
			worst, is := a.exceeds(slots, s.At)
			if end := (s.At + 1) * a.slot(); is {
				if until == 0 || end > until+a.Span.Microseconds() {
					add(end, worst)
				}
				until = end
			}
		}
	}
	return told
}

// replaySilences looks at what lies between slots.
func (a *Alert) replaySilences(slots []Slot, to int64, add func(at int64, worst float64)) {
	s := State{}
	for i, slot := range slots {
		at := slot.At * a.slot()
		if i > 0 {
			a.lookReplayed(&s, at, add)
		}
		a.heard(&s, at, 0)
		s.Holds = false
	}
	a.lookReplayed(&s, to, add)
}

func (a *Alert) lookReplayed(s *State, now int64, add func(at int64, worst float64)) {
	longest := max(int64(a.Span.Seconds()), s.usual(now))
	if a.Look(s, now, 0) == Began {
		add(s.Last+longest*1e6, float64(longest))
	}
}
