package client

import (
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/forecast"
)

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.FixedZone("CET", 3600))

// What needs a person is told in one line each, with times in UTC; what does not is not.
func TestTroublesOfAStatus(t *testing.T) {
	well := func() Status { return Status{Balance: balance.Result{Closes: true}} }
	soon, late := noon.Add(24*time.Hour), noon.Add(30*24*time.Hour)
	for want, change := range map[string]func(*Status){
		"": func(s *Status) {
			s.Intakes = []IntakeStatus{{Name: "wire", LastRecord: &noon}}
			s.Outlets = []OutletStatus{{Name: "centre", Outlet: balance.Outlet{Held: 5}, HeldSince: &noon}}
			s.Forecast.Disks = []forecast.Disk{{Folder: "/var/log", Free: 2, Floor: 1, Full: &late}}
		},
		"the balance does not close: 7 records are unaccounted for": func(s *Status) { s.Balance = balance.Result{Difference: 7} },
		"a plan was not taken: it is wrong":                         func(s *Status) { s.Plan.Refused = &Refusal{Why: "it is wrong"} },
		"outlet all is paused until 2026-11-29 11:00 UTC, and sheds what comes": func(s *Status) {
			s.Pauses = []Pause{{Outlet: "all", Drop: true, Until: noon}}
		},
		"rule web is paused until 2026-11-29 11:00 UTC": func(s *Status) { s.Pauses = []Pause{{Rule: "web", Until: noon}} },
		"centre: no route (3 records wait, the oldest since 2026-11-29 11:00 UTC)": func(s *Status) {
			s.Outlets = []OutletStatus{{Name: "centre", Trouble: "no route", Outlet: balance.Outlet{Held: 3}, HeldSince: &noon}}
		},
		"centre: no route": func(s *Status) { s.Outlets = []OutletStatus{{Name: "centre", Trouble: "no route"}} },
		"centre: the other side has refused 2 records for good":  func(s *Status) { s.Outlets = []OutletStatus{{Name: "centre", Outlet: balance.Outlet{Refused: 2}}} },
		"centre has shed 4 records":                              func(s *Status) { s.Outlets = []OutletStatus{{Name: "centre", Outlet: balance.Outlet{Shed: 4}}} },
		"wire: 6 records were dropped before they could be read": func(s *Status) { s.Intakes = []IntakeStatus{{Name: "wire", Intake: balance.Intake{Missed: 6}}} },
		"wire: its port is taken":                                func(s *Status) { s.Intakes = []IntakeStatus{{Name: "wire", Trouble: "its port is taken"}} },
		"wire has turned away 8 connections or datagrams":        func(s *Status) { s.Intakes = []IntakeStatus{{Name: "wire", TurnedAway: 8}} },
		"the disk of /var/log is full on 2026-11-30, as its files grow now": func(s *Status) {
			s.Forecast.Disks = []forecast.Disk{{Folder: "/var/log", Free: 2, Floor: 1, Full: &soon}}
		},
		"nothing is written on the disk of /var/log: no more is free than is to stay free": func(s *Status) { s.Forecast.Disks = []forecast.Disk{{Folder: "/var/log", Free: 1, Floor: 1}} },
		"link has failed once, last at 2026-11-29 11:00 UTC: nil at x.go:1; it runs again": func(s *Status) {
			s.Faults = []Fault{{Part: "link", Count: 1, First: noon, Last: noon, What: "nil", Where: "x.go:1"}}
		},
		"outlet centre, 2026-11-29 11:00 UTC: it is a copy; let it in": func(s *Status) {
			s.Forks = []ForkStatus{{Outlet: "centre", At: noon, What: "it is a copy", Mend: "let it in"}}
		},
		"/s/agent-id was found damaged at 2026-11-29 11:00 UTC, of agent; it cost nothing": func(s *Status) { s.Damaged = []Damage{{File: "/s/agent-id", At: noon, Part: "agent", Cost: "nothing"}} },
		"detail window: rule web takes debug until 2026-11-29 11:00 UTC":                   func(s *Status) { s.Details = []Detail{{Rule: "web", To: "debug", Until: noon}} },
		"link has failed 3 times, first at 2026-11-29 11:00 UTC, last at 2026-11-29 11:00 UTC: nil at x.go:1; 9 records were lost; it is begun again at 2026-11-30 11:00 UTC": func(s *Status) {
			s.Faults = []Fault{{Part: "link", Count: 3, First: noon, Last: noon, What: "nil", Where: "x.go:1", Lost: 9, Next: &soon}}
		},
	} {
		s := well()
		change(&s)
		got := s.Summary(nil, noon).Troubles
		if want == "" && len(got) > 0 || want != "" && !slices.Equal(got, []string{want}) {
			t.Errorf("%q\nwant %q", got, want)
		}
	}
	s := well()
	if got := s.Summary([]TallyTrouble{{Path: "/a.log", What: "it lost 2 lines", At: noon}}, noon).Troubles; len(got) != 1 || got[0] != "the tally of /a.log: it lost 2 lines, seen at 2026-11-29 11:00 UTC" {
		t.Errorf("%q", got)
	}
}

// However much a host says, its summary is small.
func TestASummaryIsSmall(t *testing.T) {
	s := Status{Balance: balance.Result{Closes: true}}
	for range 1000 {
		s.Outlets = append(s.Outlets, OutletStatus{Name: "x", Trouble: strings.Repeat("é", 1000)})
		s.Forecast.Disks = append(s.Forecast.Disks, forecast.Disk{Free: 1})
	}
	got := s.Summary(nil, noon)
	if len(got.Troubles) != mostTroubles || got.Troubles[19] != "and 981 more" || len(got.Troubles[0]) > mostTrouble+4 || len(got.Disks) != 20 {
		t.Errorf("%d troubles, the last %q, the first of %d bytes; %d disks", len(got.Troubles), got.Troubles[len(got.Troubles)-1], len(got.Troubles[0]), len(got.Disks))
	}
}
