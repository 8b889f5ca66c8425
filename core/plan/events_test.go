package plan

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"
)

const windowsPlan = `oakbarrel: 1
intakes:
  windows: {events: {channels: [Application, System, 'Lantern-*/Operational'], when: 'level at least warning or id in (7036, 7040)', since: 7d}}
  pumps:   {files: {paths: ['C:\logs\*.log']}}
outlets:
  all:   {file: {path: 'D:\logs\all.log', keep: {days: 3}}}
  alarm: {events: {source: Lantern Bay, channel: Lantern Alarms}}
otherwise: {send: [all]}
`

func TestEventsInAPlan(t *testing.T) {
	for name, read := range map[string]func() (*Plan, Findings){
		"of another machine": func() (*Plan, Findings) { return Parse("plan.yaml", []byte(windowsPlan)) },
		"served": func() (*Plan, Findings) {
			return ParseServed("plan.yaml", []byte(windowsPlan), []byte("oakbarrel: 1\nhost: kelp-01\n"), nil)
		},
	} {
		p, findings := read()
		if p == nil {
			t.Fatalf("%s: %v", name, findings)
		}
		e, o := p.Intakes[0].Events, p.Outlets[1].Events
		if !slices.Equal(e.Channels, []string{"Application", "System", "Lantern-*/Operational"}) || e.When == nil || e.Begin != (Begin{Age: 7 * 24 * time.Hour}) || o != (EventsOutletSettings{"Lantern Bay", "Lantern Alarms"}) {
			t.Errorf("%s: %+v, %+v", name, e, o)
		}
		for channel, want := range map[string]bool{"System": true, "APPLICATION": true, "lantern-Pumps/Operational": true, "Lantern-Pumps/Debug": false, "Security": false} {
			if e.Takes(channel) != want {
				t.Errorf("%s is taken: %v", channel, !want)
			}
		}
	}
}

// The plan that hosts begin with is in order there, as far as another system can tell.
func TestThePlanThatWindowsBeginsWith(t *testing.T) {
	text, err := os.ReadFile("../../packaging/windows/plan.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if p, findings := Parse("plan.yaml", text); p == nil || len(findings) > 0 {
		t.Error(findings)
	}
}

func TestMistakesWithEvents(t *testing.T) {
	with := func(from, to string) string { return strings.Replace(windowsPlan, from, to, 1) }
	for text, want := range map[string]string{
		with("channels: [Application, System, 'Lantern-*/Operational'], ", ""): "events has no channels; write events: {channels: [Application, System, 'Lantern-*']}",
		with("'Lantern-*/Operational'", "'Lantern-['"):                         `"Lantern-[": `,
		with("level at least warning", "level at least informal"):              "'informal' is not a severity",
		with("id in", "number in"):                                             "'number' is not a property of a record",
		with("since: 7d", "since: yesterday"):                                  "yesterday",
		with("source: Lantern Bay, ", ""):                                      "events has no source; write source: Lantern Bay",
		with("channel: Lantern Alarms", "channel: Security"):                   "only Windows itself writes into Security",
		with("channel: Lantern Alarms", "channel: application"):                "outlet alarm writes into the channel application that intake windows reads",
		with("Lantern Bay", `'Lantern\Bay'`):                                   `source cannot be "Lantern\\Bay"`,
	} {
		if _, findings := Parse("plan.yaml", []byte(text)); len(findings) != 1 || !strings.Contains(findings[0].String(), want) {
			t.Errorf("want %s:\n%v", want, findings)
		}
	}
}
