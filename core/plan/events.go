package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/paths"
)

// Events says what an events intake reads of the log of events that Windows keeps.
type Events struct {
	Channels []string             // names and patterns
	When     *condition.Condition // the events that are taken, nil for all
	Begin    Begin
	Text     string // the settings as the plan has them: intakes that have it alike are alike
}

// Takes tells whether the plan wants a channel.
func (e *Events) Takes(channel string) bool {
	return slices.ContainsFunc(e.Channels, func(pattern string) bool {
		return paths.MatchPart(strings.ToLower(pattern), strings.ToLower(channel))
	})
}

// Begin says where an intake begins the first time that it reads what the system keeps.
type Begin struct {
	Since string        // SinceBoot, SinceAll, SinceNow, or "" for Age
	Age   time.Duration // how long ago, where Since is ""
}

// Where an intake begins.
const (
	SinceBoot = "boot"
	SinceAll  = "all"
	SinceNow  = "now"
)

// readSince reads where an intake begins: with the start of the machine, where it does not say.
func (r *planReader) readSince(m mapping) (b Begin) {
	e, ok := m.get("since")
	if !ok {
		return Begin{Since: SinceBoot}
	}
	if v, ok := r.scalarOf(e.value); ok && slices.Contains([]string{SinceBoot, SinceAll, SinceNow}, v.text) {
		return Begin{Since: v.text}
	}
	return Begin{Age: r.duration(e, time.Minute, 10*365*24*time.Hour, "7d; or boot, all or now")}
}

func (r *planReader) readEvents(e entry, in *Intake) {
	const example = "events: {channels: [Application, System, 'Lantern-*']}"
	events := &Events{Text: e.value.String()}
	in.Events = events
	m, ok := r.mapping(e.value, e.at, "events", example, "channels", "when", "since")
	if !ok {
		return
	}
	if e, ok := m.require("channels", "write "+example); ok {
		for _, s := range r.texts(e, "a channel", "channels: [Application, System, 'Lantern-*']") {
			if err := paths.Check(s.text); err != nil {
				r.fail(positionOf(s.node), fmt.Sprintf("%q: %v", shorten(s.text), err), "write the name of a channel, with * for any characters")
			}
			events.Channels = append(events.Channels, s.text)
		}
	}
	if e, ok := m.get("when"); ok {
		events.When = r.eventsWhen(e)
	}
	events.Begin = r.readSince(m)
}

func (r *planReader) eventsWhen(e entry) *condition.Condition {
	s, ok := r.text(e, "a condition, such as level at least warning and id not in (7036, 7040)")
	if !ok {
		return nil
	}
	c, err := condition.ParseOfEvents(s.text)
	if err != nil {
		problem := err.(*condition.Error)
		r.fail(s.locate(problem.Offset), problem.What, mendCondition(s, problem))
		return nil
	}
	return c
}

// EventsOutletSettings says as which source an outlet writes events, and into which channel.
type EventsOutletSettings struct {
	Source  string
	Channel string // "Application" where the plan does not say
}

func (r *planReader) readEventsOutlet(e entry, out *Outlet) {
	out.Events.Channel = "Application"
	m, ok := r.mapping(e.value, e.at, "events", "events: {source: Lantern Bay}", "source", "channel")
	if !ok {
		return
	}
	if e, ok := m.require("source", "write source: Lantern Bay, a name that the system knows the events by; doctor tells how it is made known"); ok {
		out.Events.Source = r.eventsName(e)
	}
	if e, ok := m.get("channel"); ok {
		if out.Events.Channel = r.eventsName(e); strings.EqualFold(out.Events.Channel, "Security") {
			r.fail(e.valueAt(), "only Windows itself writes into Security", "write another channel, such as Application")
		}
	}
}

// eventsName reads the name of a source or a channel, which is a key of the system's registry.
func (r *planReader) eventsName(e entry) string {
	s, ok := r.text(e, "a name, such as Lantern Bay")
	if ok && (s.text == "" || len(s.text) > 200 || strings.ContainsFunc(s.text, func(c rune) bool { return c < ' ' || c == '\\' })) {
		r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), `write a name of at most 200 characters without \`)
	}
	return s.text
}

// checkLacking tells where a plan that is for this machine asks for what its system does not have.
func (r *planReader) checkLacking(e entry) {
	if mend, lacks := lacking[e.key]; lacks && r.here {
		r.fail(e.at, fmt.Sprintf("%s does not work on this system", e.key), mend)
	}
}
