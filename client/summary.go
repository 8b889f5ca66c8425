package client

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/forecast"
)

// Summary is what is shown of a status where there are many of them.
type Summary struct {
	Version    string          `json:"version"`
	In         int64           `json:"in"` // records that came to the rules
	Routed     int64           `json:"routed"`
	Dropped    int64           `json:"dropped"`
	LastRecord *time.Time      `json:"last_record"` // when it came, of all intakes
	Disks      []forecast.Disk `json:"disks"`
	Troubles   []string        `json:"troubles"` // what needs a person, at most 20, with times in UTC
}

const (
	mostTroubles = 20
	mostTrouble  = 500                 // bytes of one
	soonFull     = 14 * 24 * time.Hour // a disk that is full by then needs a person
)

// Summary returns that of a status; tallies is what is wrong with the tallies that it tells of.
func (s *Status) Summary(tallies []TallyTrouble, now time.Time) Summary {
	of := Summary{Version: s.Version.Version, In: s.Rules.In, Routed: s.Rules.Routed, Dropped: s.Rules.Dropped, Disks: s.Forecast.Disks}
	for _, i := range s.Intakes {
		if i.LastRecord != nil && (of.LastRecord == nil || i.LastRecord.After(*of.LastRecord)) {
			of.LastRecord = i.LastRecord
		}
	}
	t := &troubles{now: now}
	t.plan(s)
	t.intakesAndOutlets(s)
	t.disks(s.Forecast.Disks)
	t.itself(s)
	for _, of := range tallies {
		t.add("the tally of %s: %s, seen at %s", of.Path, of.What, utc(of.At))
	}
	for _, d := range s.Details {
		t.add("detail window: rule %s takes %s until %s", d.Rule, d.To, utc(d.Until))
	}
	of.Troubles = t.bounded()
	of.Disks = append([]forecast.Disk{}, of.Disks[:min(len(of.Disks), mostTroubles)]...)
	return of
}

// troubles gathers what needs a person.
type troubles struct {
	now time.Time
	all []string
}

func (t *troubles) add(format string, args ...any) {
	t.all = append(t.all, fmt.Sprintf(format, args...))
}

// bounded returns them, however many a host tells.
func (t *troubles) bounded() []string {
	all := slices.Clone(t.all[:min(len(t.all), mostTroubles)])
	for i, text := range all {
		if len(text) > mostTrouble {
			all[i] = strings.ToValidUTF8(text[:mostTrouble], "") + " …"
		}
	}
	if more := len(t.all) - len(all); more > 0 {
		all[mostTroubles-1] = fmt.Sprintf("and %d more", more+1)
	}
	return append([]string{}, all...)
}

func utc(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 UTC") }

func (t *troubles) plan(s *Status) {
	if !s.Balance.Closes {
		t.add("the balance does not close: %d records are unaccounted for", s.Balance.Difference)
	}
	if r := s.Plan.Refused; r != nil {
		t.add("a plan was not taken: %s", r.Why)
	}
	for _, p := range s.Pauses {
		what, sheds := "outlet "+p.Outlet, ""
		if p.Rule != "" {
			what = "rule " + p.Rule
		}
		if p.Drop {
			sheds = ", and sheds what comes"
		}
		t.add("%s is paused until %s%s", what, utc(p.Until), sheds)
	}
}

func (t *troubles) intakesAndOutlets(s *Status) {
	for _, o := range s.Outlets {
		if o.Trouble != "" && o.Held > 0 && o.HeldSince != nil {
			t.add("%s: %s (%d records wait, the oldest since %s)", o.Name, o.Trouble, o.Held, utc(*o.HeldSince))
		} else if o.Trouble != "" {
			t.add("%s: %s", o.Name, o.Trouble)
		}
		if o.Refused > 0 {
			t.add("%s: the other side has refused %d records for good", o.Name, o.Refused)
		}
		if o.Shed > 0 {
			t.add("%s has shed %d records", o.Name, o.Shed)
		}
	}
	for _, i := range s.Intakes {
		if i.Missed > 0 {
			t.add("%s: %d records were dropped before they could be read", i.Name, i.Missed)
		}
		if i.Trouble != "" {
			t.add("%s: %s", i.Name, i.Trouble)
		}
		if i.TurnedAway > 0 {
			t.add("%s has turned away %d connections or datagrams", i.Name, i.TurnedAway)
		}
	}
}

func (t *troubles) disks(all []forecast.Disk) {
	for _, d := range all {
		if d.Full != nil && d.Full.Sub(t.now) < soonFull {
			t.add("the disk of %s is full on %s, as its files grow now", d.Folder, d.Full.UTC().Format("2006-01-02"))
		}
		if d.Free <= d.Floor {
			t.add("nothing is written on the disk of %s: no more is free than is to stay free", d.Folder)
		}
	}
}

// itself tells what the agent says of its own parts and folder.
func (t *troubles) itself(s *Status) {
	if s.Metrics != nil && s.Metrics.Trouble != "" {
		t.add("%s", s.Metrics.Trouble)
	}
	for _, f := range s.Faults {
		times, lost, now := "once", "", "it runs again"
		if f.Count > 1 {
			times = fmt.Sprintf("%d times, first at %s", f.Count, utc(f.First))
		}
		if f.Lost > 0 {
			lost = fmt.Sprintf("; %d records were lost", f.Lost)
		}
		if f.Next != nil {
			now = "it is begun again at " + utc(*f.Next)
		}
		t.add("%s has failed %s, last at %s: %s at %s%s; %s", f.Part, times, utc(f.Last), f.What, f.Where, lost, now)
	}
	for _, f := range s.Forks {
		of, mend := "", ""
		if f.Outlet != "" {
			of = "outlet " + f.Outlet + ", "
		}
		if f.Mend != "" {
			mend = "; " + f.Mend
		}
		t.add("%s%s: %s%s", of, utc(f.At), f.What, mend)
	}
	for _, d := range s.Damaged {
		t.add("%s was found damaged at %s, of %s; it cost %s", d.File, utc(d.At), d.Part, d.Cost)
	}
}
