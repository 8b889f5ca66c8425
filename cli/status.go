//go:build linux || windows

package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/metrics"
)

func (a *app) statusCommand() *cobra.Command {
	var state string
	c := &cobra.Command{
		Use:   "status",
		Short: "Ask a running agent how it is",
		Long: `Ask a running agent how it is: the plan in force, its intakes and outlets, and
the balance: what went in is what went out, was dropped or shed, or is held.

Exit code 1 says that the balance does not close, or that no agent runs there.`,
		Example: `  oakbarrel status --state lantern-bay/reef-02/state
  oakbarrel status --state lantern-bay/reef-02/state --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := control.AskStatus(c.Context(), state)
			if errors.Is(err, control.ErrNoAgent) {
				return codedError{exitNo, err}
			}
			if err != nil {
				return couldNot(err)
			}
			if a.json() {
				err = a.printJSON(s)
			} else {
				a.printStatus(s)
			}
			if err == nil && !s.Balance.Closes {
				err = no
			}
			return err
		},
	}
	stateFlag(c, &state)
	return c
}

func (a *app) printStatus(s client.Status) {
	fmt.Fprintf(a.stdout, "%s  agent %s, process %d, version %s, runs since %s (%s)\n", s.Host, s.AgentID[:8], s.PID, s.Version.Version, clock(s.Since), ago(s.Since))
	fmt.Fprintf(a.stdout, "plan     %s, hash %s, read %s\n", s.Plan.File, s.Plan.Hash[:12], clock(s.Plan.ReadAt))
	if r := s.Plan.Refused; r != nil {
		fmt.Fprintf(a.stdout, "         NOT TAKEN at %s, the one before stays in force: %s\n", clock(r.At), r.Why)
	} else if s.Plan.ChangedOnDisk {
		fmt.Fprintln(a.stdout, "         the file has changed since; SIGHUP makes the agent read it")
	}
	a.printServed(s.Plan.Served)
	for _, p := range s.Pauses {
		fmt.Fprintf(a.stdout, "PAUSED   %s until %s: it %s\n", nameOf(p), clock(p.Until), does(p))
	}
	a.printIntakes(s.Intakes)
	for _, i := range s.Intakes {
		if i.Limited > 0 {
			fmt.Fprintf(a.stdout, "  %s has given up %s of senders that sent too many\n", i.Name, plural(int(i.Limited), "record"))
		}
		if i.Trouble != "" {
			fmt.Fprintf(a.stdout, "  %s: %s\n", i.Name, i.Trouble)
		}
		if i.TurnedAway > 0 {
			fmt.Fprintf(a.stdout, "  %s has turned away %s that the plan does not let in\n", i.Name, count(i.TurnedAway)+" connections or datagrams")
		}
	}
	fmt.Fprintf(a.stdout, "\nrules    in %s = routed %s + dropped %s\n", count(s.Rules.In), count(s.Rules.Routed), count(s.Rules.Dropped))
	if s.Rules.Limited > 0 {
		fmt.Fprintf(a.stdout, "         of those dropped, %s by the limit of a rule\n", count(s.Rules.Limited))
	}
	if s.Rules.Folded > 0 {
		fmt.Fprintf(a.stdout, "         of those dropped, %s as repeats\n", count(s.Rules.Folded))
	}
	a.printMatched(s.Matched)
	for _, d := range s.Details {
		fmt.Fprintf(a.stdout, "         detail window: %s takes %s instead of %s until %s\n", windowOf(d.Rule), d.To, d.From, clock(d.Until))
	}
	a.printOutlets(s.Outlets)
	a.printFaults(s)
	if len(s.Tended) > 0 {
		a.printTendedFiles(s.Tended)
	}
	if m := s.Metrics; m != nil && m.Trouble != "" {
		fmt.Fprintf(a.stdout, "\nmetrics  %s\n", m.Trouble)
	} else if m != nil {
		fmt.Fprintf(a.stdout, "\nmetrics  at http://%s%s\n", m.Listen, metrics.Path)
	}
	for _, d := range s.Forecast.Disks {
		if d.Full != nil {
			fmt.Fprintf(a.stdout, "\ndisk     of %s: full on %s, as its files grow now (oakbarrel forecast)\n", d.Folder, d.Full.Local().Format("2006-01-02"))
		}
	}
	if s.Balance.Closes {
		fmt.Fprintln(a.stdout, "\nbalance  closes: nothing is lost that is not counted")
	} else {
		fmt.Fprintf(a.stdout, "\nbalance  DOES NOT CLOSE: %s records are unaccounted for; this is a bug, please report it\n", count(s.Balance.Difference))
	}
}

// mostRules are shown of what rules have acted on; "--output json" has more.
const mostRules = 30

// printMatched tells how many records each rule has acted on.
func (a *app) printMatched(matched []route.Matched) {
	if len(matched) < 2 { // there are no rules but otherwise
		return
	}
	rows := [][]string{{"RULE", "ACTED ON"}}
	for i, m := range matched[:len(matched)-1] {
		if i == mostRules {
			rows = append(rows, []string{fmt.Sprintf("and %d more", len(matched)-1-i), ""})
			break
		}
		rows = append(rows, []string{m.Rule, count(m.Records)})
	}
	a.table(append(rows, []string{"otherwise", count(matched[len(matched)-1].Records)}))
}

// printServed tells how it stands with the plan of the service, where that serves one.
func (a *app) printServed(p *client.ServedPlan) {
	if p == nil {
		return
	}
	text := "served by the service: " + planAt(p.Plan, p.Revision)
	if p.Plan == "" {
		text = "served by the service: none has come yet"
	}
	if p.Until != nil {
		text += ", judged until " + clock(*p.Until)
	}
	fmt.Fprintf(a.stdout, "         %s\n", text)
	if p.State == client.TakenBack {
		fmt.Fprintf(a.stdout, "         TAKEN BACK %s: %s\n", planAt(p.Tried, p.TriedAt), p.Why)
	}
}

func (a *app) printIntakes(intakes []client.IntakeStatus) {
	fmt.Fprintln(a.stdout, "\nintakes")
	rows := [][]string{{"NAME", "READ", "UNPARSED", "CUT", "MISSED", "LAST RECORD", "LISTENS ON"}}
	for _, i := range intakes {
		name := i.Name
		if i.Leaving {
			name += " (leaving)"
		}
		addresses := strings.Join(i.Addresses, "  ")
		if i.Connections > 0 {
			addresses += fmt.Sprintf("  (%d connected)", i.Connections)
		}
		rows = append(rows, []string{name, count(i.Read), count(i.Unparsed), count(i.Cut), count(i.Missed), agoOrNever(i.LastRecord), addresses})
	}
	a.table(rows)
}

func (a *app) printOutlets(outlets []client.OutletStatus) {
	fmt.Fprintln(a.stdout, "\noutlets")
	rows := [][]string{{"NAME", "IN", "OUT", "HELD", "SHED", "LAST WRITE", "LIVE FILE", "PIECES", "PATH"}}
	for _, o := range outlets {
		name := o.Name
		if o.Leaving {
			name += " (leaving)"
		}
		pieces := "none"
		if o.Pieces > 0 {
			pieces = fmt.Sprintf("%d, %s", o.Pieces, size(o.PieceBytes))
		}
		rows = append(rows, []string{name, count(o.In), count(o.Out), count(o.Held), count(o.Shed), agoOrNever(o.LastWrite), size(o.LiveBytes), pieces, o.Path})
	}
	a.table(rows)
	for _, o := range outlets {
		if o.Trouble != "" {
			fmt.Fprintf(a.stdout, "  %s cannot write since %s: %s\n", o.Name, clock(*o.TroubleSince), record.Visible(o.Trouble))
		}
		if line := waiting(o); line != "" {
			fmt.Fprintf(a.stdout, "  %s: %s\n", o.Name, line)
		}
		if o.Refused > 0 {
			fmt.Fprintf(a.stdout, "  %s: %s records were refused for good; a file in the state folder's refused/ tells which, and why\n", o.Name, count(o.Refused))
		}
	}
}

// waiting tells what an outlet holds that is not sent, since when, and when it tries again.
func waiting(o client.OutletStatus) string {
	if o.HeldSince == nil || o.NextTry == nil && time.Since(*o.HeldSince) < time.Minute {
		return ""
	}
	line := fmt.Sprintf("%s records wait, the oldest came %s", count(o.Held), ago(*o.HeldSince))
	if o.NextTry != nil {
		line += fmt.Sprintf("; the next try is in %.0f s", max(0, time.Until(*o.NextTry).Seconds()))
	}
	return line
}

// printFaults tells of parts that have failed, of damaged files, and of what found
// no room in memory.
func (a *app) printFaults(s client.Status) {
	if len(s.Faults) > 0 {
		fmt.Fprintln(a.stdout, "\nfaults   parts of the agent that have failed; the others went on")
	}
	for _, f := range s.Faults {
		state := "it runs again"
		if f.Next != nil {
			state = fmt.Sprintf("it is begun again in %.0f s", max(0, time.Until(*f.Next).Seconds()))
		}
		lost := ""
		if f.Lost > 0 {
			lost = fmt.Sprintf("; %s lost", plural(int(f.Lost), "record"))
		}
		fmt.Fprintf(a.stdout, "  %s: failed %s, first %s, last %s%s; %s\n    %s at %s\n", f.Part, plural(int(f.Count), "time"), ago(f.First), ago(f.Last), lost, state, record.Visible(f.What), f.Where)
	}
	if len(s.Forks) > 0 {
		fmt.Fprintln(a.stdout, "\ncopies   what was found of copies of the state folder, or of the store")
	}
	for _, f := range s.Forks {
		fmt.Fprintf(a.stdout, "  %s%s: %s\n", forkOf(f), ago(f.At), record.Visible(f.What))
		if f.Mend != "" {
			fmt.Fprintf(a.stdout, "    %s\n", f.Mend)
		}
	}
	if len(s.Damaged) > 0 {
		fmt.Fprintln(a.stdout, "\ndamaged  files of the state folder, which were put aside")
	}
	for _, d := range s.Damaged {
		fmt.Fprintf(a.stdout, "  %s, %s: %s\n    it cost %s\n", d.Part, ago(d.At), d.File, record.Visible(d.Cost))
	}
	if s.Memory.TurnedAway > 0 {
		fmt.Fprintf(a.stdout, "\nmemory   %s found no room in the %s that the plan lends to senders\n", count(s.Memory.TurnedAway)+" connections or requests", size(s.Memory.Limit))
	}
}

func forkOf(f client.ForkStatus) string {
	if f.Outlet == "" {
		return ""
	}
	return "outlet " + f.Outlet + ", "
}

func (a *app) printTendedFiles(files []client.TendedFile) {
	fmt.Fprintln(a.stdout, "\ntended files")
	rows := [][]string{{"NAME", "LIVE FILE", "PIECES", "ROLLED", "PATH"}}
	for _, f := range files {
		pieces, rolled := "none", "never"
		if f.Pieces > 0 {
			pieces, rolled = fmt.Sprintf("%d, %s", f.Pieces, size(f.PieceBytes)), ago(f.Rolled)
		}
		rows = append(rows, []string{f.Tend, size(f.LiveBytes), pieces, rolled, f.Path})
	}
	a.table(rows)
	for _, f := range files {
		if f.Trouble != "" {
			fmt.Fprintf(a.stdout, "  %s: %s\n", f.Tend, record.Visible(f.Trouble))
		}
	}
}
