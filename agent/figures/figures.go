// Package figures tells what an agent's status says as figures for those who watch many
// hosts. Their labels are names that the plan gives, parts of the agent and folders of
// disks, so that no sender of records can make them more.
package figures

import (
	"slices"
	"time"

	"oakbarrel/client"
	"oakbarrel/metrics"
)

const (
	counter   = metrics.Counter
	gauge     = metrics.Gauge
	histogram = metrics.Histogram
)

var (
	ofIntake = []string{"intake", "kind"}
	ofOutlet = []string{"outlet", "kind"}
)

// Families are all figures of an agent, as docs/metrics.md lists them.
var Families = []metrics.Family{
	{Name: "oakbarrel_agent_info", Kind: gauge, Help: "1, with the version and the name of the host.", Labels: []string{"version", "host"}},
	{Name: "oakbarrel_agent_start_time_seconds", Kind: gauge, Help: "When the agent started, since 1970. All that counts, counts from here."},
	{Name: "oakbarrel_plan_read_time_seconds", Kind: gauge, Help: "When the plan in force was read, since 1970."},
	{Name: "oakbarrel_plan_refused", Kind: gauge, Help: "1 where the plan that was read last was not taken."},
	{Name: "oakbarrel_plan_changed_on_disk", Kind: gauge, Help: "1 where the plan's file is another one than the plan in force."},
	{Name: "oakbarrel_plan_taken_back", Kind: gauge, Help: "1 where the plan that the service served last was taken back."},
	{Name: "oakbarrel_balance_difference_records", Kind: gauge, Help: "Records that are unaccounted for; anything but 0 is a fault of ours."},

	{Name: "oakbarrel_intake_records_total", Kind: counter, Help: "Records that were read, by what became of them: passed to the rules, unreadable, or limited.", Labels: []string{"intake", "kind", "fate"}},
	{Name: "oakbarrel_intake_missed_records_total", Kind: counter, Help: "Records that the kernel dropped, or that went, before they could be read.", Labels: ofIntake},
	{Name: "oakbarrel_intake_unparsed_records_total", Kind: counter, Help: "Of those passed, records whose header could not be read.", Labels: ofIntake},
	{Name: "oakbarrel_intake_cut_records_total", Kind: counter, Help: "Of those passed, records that were longer than allowed.", Labels: ofIntake},
	{Name: "oakbarrel_intake_turned_away_total", Kind: counter, Help: "Connections and datagrams that the plan does not let in.", Labels: ofIntake},
	{Name: "oakbarrel_intake_connections", Kind: gauge, Help: "Connections that are open.", Labels: ofIntake},
	{Name: "oakbarrel_intake_last_record_time_seconds", Kind: gauge, Help: "When the last record came, since 1970; 0 for none in this run.", Labels: ofIntake},
	{Name: "oakbarrel_intake_trouble", Kind: gauge, Help: "1 where the intake does not take all that there is.", Labels: ofIntake},

	{Name: "oakbarrel_rules_records_total", Kind: counter, Help: "Records that came to the rules, by what became of them: routed, dropped, limited by a rule, or folded as repeats.", Labels: []string{"fate"}},
	{Name: "oakbarrel_rule_records_total", Kind: counter, Help: "Records that each rule has acted on; of the first 499 rules.", Labels: []string{"rule"}},
	{Name: "oakbarrel_otherwise_records_total", Kind: counter, Help: "Records that no rule sent or dropped."},

	{Name: "oakbarrel_outlet_taken_records_total", Kind: counter, Help: "Records that the outlet was to write or deliver.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_records_total", Kind: counter, Help: "Records that are done with, by what became of them: out (written or delivered), shed, or refused by the receiver.", Labels: []string{"outlet", "kind", "fate"}},
	{Name: "oakbarrel_outlet_held_records", Kind: gauge, Help: "Records that wait.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_held_seconds", Kind: gauge, Help: "For how long the oldest record waits that another side has to confirm.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_delay_seconds", Kind: histogram, Help: "From when the oldest record of a write or a batch came until that was written or confirmed.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_last_write_time_seconds", Kind: gauge, Help: "When it last wrote or delivered, since 1970; 0 for never in this run.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_trouble", Kind: gauge, Help: "1 where the outlet cannot write or deliver.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_paused", Kind: gauge, Help: "1 where the outlet is switched off for a while.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_files", Kind: gauge, Help: "Rolled sets of a file outlet.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_live_bytes", Kind: gauge, Help: "Of its live files, or of its spool.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_pieces", Kind: gauge, Help: "Rolled pieces that are there.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_piece_bytes", Kind: gauge, Help: "Of the pieces together, compressed as they are.", Labels: ofOutlet},
	{Name: "oakbarrel_outlet_rolls_total", Kind: counter, Help: "How often live files were rolled.", Labels: ofOutlet},

	{Name: "oakbarrel_followed_files", Kind: gauge, Help: "Files, containers' logs and journals by how far they are read: reading, at end, finished, not read.", Labels: []string{"intake", "state"}},
	{Name: "oakbarrel_followed_behind_bytes", Kind: gauge, Help: "What stands in them and is not read yet.", Labels: []string{"intake"}},
	{Name: "oakbarrel_followed_behind_seconds", Kind: gauge, Help: "For how long the furthest of them is behind.", Labels: []string{"intake"}},
	{Name: "oakbarrel_containers", Kind: gauge, Help: "Containers, by whether their output is taken: yes or no; of the 100 that need attention most.", Labels: []string{"intake", "read"}},
	{Name: "oakbarrel_container_advice", Kind: gauge, Help: "Containers whose log settings could fill a disk, or lose records.", Labels: []string{"intake"}},
	{Name: "oakbarrel_tended_files", Kind: gauge, Help: "Files of other programs that are rolled.", Labels: []string{"tend"}},
	{Name: "oakbarrel_tended_bytes", Kind: gauge, Help: "Of those and their pieces.", Labels: []string{"tend"}},
	{Name: "oakbarrel_tended_trouble", Kind: gauge, Help: "How many of those cannot be rolled.", Labels: []string{"tend"}},

	{Name: "oakbarrel_disk_size_bytes", Kind: gauge, Help: "Of each disk that files or spools are on.", Labels: []string{"folder"}},
	{Name: "oakbarrel_disk_free_bytes", Kind: gauge, Help: "What is free of it.", Labels: []string{"folder"}},
	{Name: "oakbarrel_disk_floor_bytes", Kind: gauge, Help: "Free bytes that are not written into.", Labels: []string{"folder"}},
	{Name: "oakbarrel_disk_growth_bytes_per_second", Kind: gauge, Help: "What its files grow by, before anything is removed.", Labels: []string{"folder"}},
	{Name: "oakbarrel_disk_full_time_seconds", Kind: gauge, Help: "When free space comes down to the floor at this rate, since 1970; absent where that is not within ten years.", Labels: []string{"folder"}},

	{Name: "oakbarrel_memory_limit_bytes", Kind: gauge, Help: "What unfinished messages and requests may take."},
	{Name: "oakbarrel_memory_used_bytes", Kind: gauge, Help: "What they take."},
	{Name: "oakbarrel_memory_turned_away_total", Kind: counter, Help: "Connections and requests that found no room."},
	{Name: "oakbarrel_faults_total", Kind: counter, Help: "How often a part of the agent failed by a fault of ours, and was begun again.", Labels: []string{"part"}},
	{Name: "oakbarrel_fault_lost_records_total", Kind: counter, Help: "Records that were lost with that.", Labels: []string{"part"}},
	{Name: "oakbarrel_damaged_files", Kind: gauge, Help: "Files of the state folder that were found damaged in this run."},
	{Name: "oakbarrel_copies_found", Kind: gauge, Help: "How often the state folder was found to be a copy, or set back."},
	{Name: "oakbarrel_detail_windows", Kind: gauge, Help: "Detail windows that are open."},
}

// Of returns the figures of an agent that tells its status, and the files that it follows.
func Of(status func() client.Status, followed func() []client.FollowedFile) *metrics.Figures {
	return &metrics.Figures{Families: Families, Fill: func(p *metrics.Page) {
		s := status()
		fill(p, &s, followed(), time.Now())
	}}
}

func fill(p *metrics.Page, s *client.Status, followed []client.FollowedFile, now time.Time) {
	p.Flag("oakbarrel_agent_info", true, s.Version.Version, s.Host)
	p.Most("oakbarrel_agent_start_time_seconds", since1970(&s.Since))
	plan(p, &s.Plan)
	p.Add("oakbarrel_balance_difference_records", float64(s.Balance.Difference))
	for i := range s.Intakes {
		intake(p, &s.Intakes[i])
	}
	rules(p, s)
	for i := range s.Outlets {
		outlet(p, &s.Outlets[i], s.Pauses, now)
	}
	for i := range followed {
		follow(p, &followed[i])
	}
	for _, c := range s.Containers {
		p.Add("oakbarrel_containers", 1, c.Intake, map[bool]string{true: "yes", false: "no"}[c.Read])
		p.Add("oakbarrel_container_advice", float64(min(len(c.Advice), 1)), c.Intake)
	}
	for _, f := range s.Tended {
		p.Add("oakbarrel_tended_files", 1, f.Tend)
		p.Add("oakbarrel_tended_bytes", float64(f.LiveBytes+f.PieceBytes), f.Tend)
		p.Add("oakbarrel_tended_trouble", one(f.Trouble != ""), f.Tend)
	}
	disks(p, s)
	itself(p, s)
}

func one(holds bool) float64 {
	if holds {
		return 1
	}
	return 0
}

// since1970 returns a time in seconds, 0 for none.
func since1970(t *time.Time) float64 {
	if t == nil || t.IsZero() {
		return 0
	}
	return float64(t.UnixMilli()) / 1000
}

func plan(p *metrics.Page, s *client.PlanStatus) {
	p.Most("oakbarrel_plan_read_time_seconds", since1970(&s.ReadAt))
	p.Flag("oakbarrel_plan_refused", s.Refused != nil)
	p.Flag("oakbarrel_plan_changed_on_disk", s.ChangedOnDisk)
	p.Flag("oakbarrel_plan_taken_back", s.Served != nil && s.Served.State == client.TakenBack)
}

func intake(p *metrics.Page, s *client.IntakeStatus) {
	name, kind := s.Name, string(s.Kind)
	for fate, n := range map[string]int64{"passed": s.Passed, "unreadable": s.Unreadable, "limited": s.Limited} {
		p.Add("oakbarrel_intake_records_total", float64(n), name, kind, fate)
	}
	p.Add("oakbarrel_intake_missed_records_total", float64(s.Missed), name, kind)
	p.Add("oakbarrel_intake_unparsed_records_total", float64(s.Unparsed), name, kind)
	p.Add("oakbarrel_intake_cut_records_total", float64(s.Cut), name, kind)
	p.Add("oakbarrel_intake_turned_away_total", float64(s.TurnedAway), name, kind)
	p.Add("oakbarrel_intake_connections", float64(s.Connections), name, kind)
	p.Most("oakbarrel_intake_last_record_time_seconds", since1970(s.LastRecord), name, kind)
	p.Flag("oakbarrel_intake_trouble", s.Trouble != "", name, kind)
}

func rules(p *metrics.Page, s *client.Status) {
	r := s.Rules
	for fate, n := range map[string]int64{"routed": r.Routed, "dropped": r.Dropped - r.Limited - r.Folded, "limited": r.Limited, "folded": r.Folded} {
		p.Add("oakbarrel_rules_records_total", float64(n), fate)
	}
	for i, m := range s.Matched {
		if i == len(s.Matched)-1 {
			p.Add("oakbarrel_otherwise_records_total", float64(m.Records))
			continue
		}
		p.Add("oakbarrel_rule_records_total", float64(m.Records), m.Rule)
	}
}

func outlet(p *metrics.Page, s *client.OutletStatus, pauses []client.Pause, now time.Time) {
	name, kind := s.Name, string(s.Kind)
	p.Add("oakbarrel_outlet_taken_records_total", float64(s.In+s.HeldAtStart), name, kind)
	for fate, n := range map[string]int64{"out": s.Out, "shed": s.Shed, "refused": s.Refused} {
		p.Add("oakbarrel_outlet_records_total", float64(n), name, kind, fate)
	}
	p.Add("oakbarrel_outlet_held_records", float64(s.Held), name, kind)
	held := 0.0
	if s.HeldSince != nil {
		held = now.Sub(*s.HeldSince).Seconds()
	}
	p.Most("oakbarrel_outlet_held_seconds", held, name, kind)
	p.Spread("oakbarrel_outlet_delay_seconds", s.Delay, name, kind)
	p.Most("oakbarrel_outlet_last_write_time_seconds", since1970(s.LastWrite), name, kind)
	p.Flag("oakbarrel_outlet_trouble", s.Trouble != "", name, kind)
	p.Flag("oakbarrel_outlet_paused", slices.ContainsFunc(pauses, func(p client.Pause) bool { return p.Outlet == s.Name }), name, kind)
	p.Add("oakbarrel_outlet_files", float64(s.Files), name, kind)
	p.Add("oakbarrel_outlet_live_bytes", float64(s.LiveBytes), name, kind)
	p.Add("oakbarrel_outlet_pieces", float64(s.Pieces), name, kind)
	p.Add("oakbarrel_outlet_piece_bytes", float64(s.PieceBytes), name, kind)
	p.Add("oakbarrel_outlet_rolls_total", float64(s.Rolls), name, kind)
}

func follow(p *metrics.Page, f *client.FollowedFile) {
	p.Add("oakbarrel_followed_files", 1, f.Intake, string(f.State))
	p.Add("oakbarrel_followed_behind_bytes", float64(f.Behind), f.Intake)
	p.Most("oakbarrel_followed_behind_seconds", f.BehindSeconds, f.Intake)
}

func disks(p *metrics.Page, s *client.Status) {
	for _, d := range s.Forecast.Disks {
		p.Most("oakbarrel_disk_size_bytes", float64(d.Size), d.Folder)
		p.Most("oakbarrel_disk_free_bytes", float64(d.Free), d.Folder)
		p.Most("oakbarrel_disk_floor_bytes", float64(d.Floor), d.Folder)
		p.Most("oakbarrel_disk_growth_bytes_per_second", d.BytesPerDay/(24*time.Hour).Seconds(), d.Folder)
		if d.Full != nil {
			p.Most("oakbarrel_disk_full_time_seconds", since1970(d.Full), d.Folder)
		}
	}
}

// itself tells of the agent.
func itself(p *metrics.Page, s *client.Status) {
	p.Add("oakbarrel_memory_limit_bytes", float64(s.Memory.Limit))
	p.Add("oakbarrel_memory_used_bytes", float64(s.Memory.Used))
	p.Add("oakbarrel_memory_turned_away_total", float64(s.Memory.TurnedAway))
	for _, f := range s.Faults {
		p.Add("oakbarrel_faults_total", float64(f.Count), f.Part)
		p.Add("oakbarrel_fault_lost_records_total", float64(f.Lost), f.Part)
	}
	p.Add("oakbarrel_damaged_files", float64(len(s.Damaged)))
	p.Add("oakbarrel_copies_found", float64(len(s.Forks)))
	p.Add("oakbarrel_detail_windows", float64(len(s.Details)))
}
