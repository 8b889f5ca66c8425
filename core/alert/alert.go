// Package alert is a question that the store keeps asking of the records that come: more or
// fewer than so many, a value over a bound, silence, a shape that was never there, a share. It
// judges what it is told of them, and says what a person is to be told. It does no input or
// output.
//
// Its central type is [Alert]. What is known of each host, app or other value that an alert
// looks at by itself is a [State]; [Alert.Take] and [Alert.Look] change it, and tell what has
// begun and what is over. [Alert.Replay] does the same with what has come in the past.
package alert

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"oakbarrel/core/condition"
)

// Kind is what an alert asks for.
type Kind string

// The kinds, by their keys.
const (
	More     Kind = "more"      // more than so many records in a span
	Fewer    Kind = "fewer"     // fewer
	Value    Kind = "value"     // a value of a field over or under a bound
	Silent   Kind = "silent"    // nothing for a span in which it never was silent
	NewShape Kind = "new_shape" // a shape that was never there before
	Share    Kind = "share"     // too many of all
)

// Kinds are all of them.
var Kinds = []Kind{More, Fewer, Value, Silent, NewShape, Share}

// Alert is one such question, and whom it tells. It may be used by several goroutines at a time,
// and is not changed.
type Alert struct {
	Name string
	Cask string               // "" for every one
	When *condition.Condition // that records meet, nil for all
	By   string               // "" for all together; else each host, agent, app, intake, unit, or "field PATH" by itself

	Kind  Kind
	Span  time.Duration        // of More, Fewer, Value and Share that in which is counted; of Silent how long
	Than  int64                // of More and Fewer
	Field string               // of Value, its path
	Bound float64              // likewise
	Under bool                 // likewise: what is under the bound counts, not what is over it
	Of    *condition.Condition // of Share: the records that are too many
	Over  float64              // likewise, from 0 to 1
	Least int64                // likewise: of how many records at least

	Tell  []string // receivers
	Quiet []Quiet  // when nobody is told
	Zone  *time.Location
	Note  string // what a person should know who is told
}

const (
	parts      = 20              // slots of a span: how exactly it slides
	mostSlots  = 200             // that are kept of a state
	grace      = 2 * time.Minute // for which records of a span may be on their way
	gapDays    = 14              // for which it is known how long something was silent
	heardLeast = 8               // quarters of a span in which something was heard, for its silence to be told
	shapeTime  = time.Hour       // after which a new shape is over
	mostLate   = 7 * 24 * time.Hour
)

// slot returns how long a slot is, in microseconds.
func (a *Alert) slot() int64 { return max(1, a.Span.Microseconds()/parts) }

// SlotOf returns the slot of a time, both in microseconds since 1970: what is counted together.
// What comes from the future counts as if it came now.
func (a *Alert) SlotOf(at, now int64) int64 { return floor(min(at, now), a.slot()) }

// IsLate tells whether a record is so old when it comes that nobody is told of it any more.
func IsLate(at, now int64) bool { return now-at > mostLate.Microseconds() }

func floor(a, b int64) int64 {
	if a < 0 {
		return -((b - 1 - a) / b)
	}
	return a / b
}

// Where returns the condition that the records meet which an alert looks at, of one who alone.
// It is empty for all.
func (a *Alert) Where(who string) string {
	var parts []string
	if a.When != nil {
		parts = append(parts, a.When.Text())
	}
	switch {
	case a.Kind == Value && a.Under:
		parts = append(parts, fmt.Sprintf("field %s < %s", a.Field, number(a.Bound)))
	case a.Kind == Value:
		parts = append(parts, fmt.Sprintf("field %s > %s", a.Field, number(a.Bound)))
	case a.Kind == Share:
		parts = append(parts, a.Of.Text())
	}
	switch {
	case a.Kind == NewShape && who != "":
		parts = append(parts, "shape is "+quote(who))
	case who == Missing:
		parts = append(parts, a.By+" missing")
	case a.By != "" && who != "" && who != Others:
		parts = append(parts, a.By+" is "+quote(who))
	}
	for i, p := range parts {
		if len(parts) > 1 && strings.Contains(p, " or ") {
			parts[i] = "(" + p + ")"
		}
	}
	return strings.Join(parts, " and ")
}

// Who stands for many.
const (
	Others  = "(others)"  // that are too many to be looked at each by itself
	Missing = "(missing)" // without what the alert goes by
)

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

func number(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

// Brief writes a time without the parts that are zero: 10m, not 10m0s.
func Brief(d time.Duration) string {
	if day := 24 * time.Hour; d >= day && d%day == 0 {
		return fmt.Sprintf("%dd", d/day)
	}
	s := d.Round(time.Second).String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Line says in one line what of one who an alert tells. What a sender wrote may be in it.
func (a *Alert) Line(who string, s *State) string {
	var what string
	switch span := Brief(a.Span); a.Kind {
	case More:
		what = fmt.Sprintf("%s within %s, more than %d", records(int64(s.Worst)), span, a.Than)
	case Fewer:
		what = fmt.Sprintf("%s within %s, fewer than %d", records(int64(s.Worst)), span, a.Than)
	case Value:
		side := "over"
		if a.Under {
			side = "under"
		}
		what = fmt.Sprintf("%s was %s, %s %s", a.Field, number(s.Worst), side, number(a.Bound))
	case Silent:
		what = fmt.Sprintf("silent for %s, which it was not before", Brief(time.Duration(s.Worst)*time.Second))
	case NewShape:
		return "never there before: " + who
	case Share:
		what = fmt.Sprintf("%s %% of the records within %s, more than %s %%", number(float64(int64(s.Worst*1000))/10), span, number(a.Over*100))
	}
	if who == "" {
		return what
	}
	return who + ": " + what
}

func records(n int64) string {
	if n == 1 {
		return "1 record"
	}
	return fmt.Sprintf("%d records", n)
}

// String says in words what the alert asks.
func (a *Alert) String() string {
	var what string
	switch span := Brief(a.Span); a.Kind {
	case More:
		what = fmt.Sprintf("more than %d records within %s", a.Than, span)
	case Fewer:
		what = fmt.Sprintf("fewer than %d records within %s", a.Than, span)
	case Value:
		side := "over"
		if a.Under {
			side = "under"
		}
		what = fmt.Sprintf("%s %s %s", a.Field, side, number(a.Bound))
	case Silent:
		what = fmt.Sprintf("silent for %s, and never so long before", span)
	case NewShape:
		what = "a shape that was never there before"
	case Share:
		what = fmt.Sprintf("more than %s %% of %d records or more within %s are %s", number(a.Over*100), a.Least, span, a.Of.Text())
	}
	if a.By != "" {
		what += ", by " + a.By
	}
	if a.When != nil {
		what += ", where " + a.When.Text()
	}
	return what
}
