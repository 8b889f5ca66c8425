package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/disk"
)

func (a *app) plansCommand() *cobra.Command {
	return group("plans", "Keep the plans of many hosts in the service, in revisions", `  oakbarrel plans list
  oakbarrel plans put gate gate.yaml --why 'door badges go to their own file'`,
		"plans list, show NAME, put NAME FILE, compare NAME, check NAME-OR-DIR, pull DIR, or push DIR",
		a.plansListCommand(), a.plansShowCommand(), a.plansPutCommand(), a.plansCompareCommand(), a.plansCheckCommand(), a.plansPullCommand(), a.plansPushCommand())
}

// asked has the service asked, and what it says told as an error of a command.
func (w *admin) asked(ctx context.Context, do func(*client.Client) error) error {
	return planError(w.ask(ctx, do))
}

// planError sorts out where the answer of the service is no.
func planError(err error) error {
	var problem *client.Problem
	if errors.As(err, &problem) && (problem.Status == http.StatusNotFound || problem.Status == http.StatusConflict || problem.Status == http.StatusUnprocessableEntity) {
		return codedError{exitNo, err}
	}
	return storeError(err)
}

func (a *app) plansListCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "list",
		Short: "List the plans, and the parts that they are made of",
		Example: `  oakbarrel plans list --account noor --password-file noor.password
  oakbarrel plans list --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			lines := []client.PlanLine{}
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				lines, err = service.Plans(c.Context())
				return err
			})
			switch {
			case err != nil:
				return err
			case a.json():
				return a.printJSON(lines)
			case len(lines) == 0:
				fmt.Fprintln(a.stdout, "there is no plan yet; begin with: oakbarrel plans put NAME FILE --why TEXT")
				return nil
			}
			rows := [][]string{{"PLAN", "REVISION", "IN FORCE", "HOSTS", "PARTS", "BY", "WHEN", "WHY"}}
			for _, l := range lines {
				force := "-"
				if l.InForce > 0 {
					force = fmt.Sprint(l.InForce)
				}
				name := l.Plan
				if len(l.UsedBy) > 0 {
					name += " (a part)"
				}
				rows = append(rows, []string{name, fmt.Sprint(l.Revision), force, fmt.Sprint(l.Hosts), orNone(strings.Join(l.Parts, ", ")), l.By, ago(l.At), l.Why})
			}
			a.table(rows)
			return nil
		},
	}
	who.flags(c)
	return c
}

func orNone(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (a *app) plansShowCommand() *cobra.Command {
	var who admin
	var revision int
	var whole bool
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "Show the revisions of a plan, and the text of one",
		Example: `  oakbarrel plans show gate
  oakbarrel plans show gate --revision 3 --whole`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var all []client.PlanRevision
			var r client.PlanRevision
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				if all, err = service.Plan(c.Context(), args[0]); err != nil {
					return err
				}
				r, err = service.Revision(c.Context(), args[0], revision)
				return err
			})
			if err != nil {
				return err
			}
			if a.json() {
				return a.printJSON(map[string]any{"revisions": all, "shown": r})
			}
			rows := [][]string{{"REVISION", "BY", "WHEN", "PARTS", "WHY"}}
			for _, one := range all {
				var parts []string
				for _, p := range one.Parts {
					parts = append(parts, fmt.Sprintf("%s %d", p.Part, p.Revision))
				}
				rows = append(rows, []string{fmt.Sprint(one.Number), one.By, clock(one.At), orNone(strings.Join(parts, ", ")), one.Why})
			}
			a.table(rows)
			text := r.Text
			if whole {
				text = r.Whole
			}
			fmt.Fprintf(a.stdout, "\nRevision %d\n\n%s", r.Number, text)
			return nil
		},
	}
	c.Flags().IntVar(&revision, "revision", 0, "whose text is shown (default: the last)")
	c.Flags().BoolVar(&whole, "whole", false, "show the text with all its parts")
	who.flags(c)
	return c
}

func (a *app) plansPutCommand() *cobra.Command {
	var who admin
	var n client.NewRevision
	var base int
	c := &cobra.Command{
		Use:   "put NAME FILE",
		Short: "Make a new revision of a plan, or of a part of plans",
		Long: `Make a new revision of a plan, or of a part that plans are made of. It comes to no
host before it is rolled out. Plans that have the part get a new revision with it.
What is wrong with it is told for each host that it is for, and the exit code is 1
then. "-" as FILE stands for the standard input.`,
		Example: `  oakbarrel plans put ground ground.yaml --why 'what all hosts have'
  oakbarrel plans put gate gate.yaml --why 'badges to their own file' --base 4`,
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readText(args[1])
			if err != nil {
				return err
			}
			n.Text = string(text)
			if c.Flags().Changed("base") {
				n.Base = &base
			}
			var put client.PutPlan
			err = who.asked(c.Context(), func(service *client.Client) (err error) {
				put, err = service.PutPlan(c.Context(), args[0], n)
				return err
			})
			if err != nil {
				return err
			}
			return a.tellPut(put)
		},
	}
	c.Flags().StringVar(&n.Why, "why", "", "why it is changed, for those who read the list later")
	c.Flags().IntVar(&base, "base", 0, "the revision that it was made from; if another one came meanwhile it is refused")
	c.MarkFlagRequired("why")
	who.flags(c)
	return c
}

func readText(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(os.Stdin, 2<<20))
	}
	text, err := disk.ReadFile(file)
	return text, couldNot(err)
}

func (a *app) tellPut(put client.PutPlan) error {
	if a.json() {
		if err := a.printJSON(put); err != nil {
			return err
		}
	} else if put.Same {
		fmt.Fprintf(a.stdout, "plan %s has this text already, as revision %d\n", put.Plan, put.Revision)
	} else {
		fmt.Fprintf(a.stdout, "plan %s has revision %d\n", put.Plan, put.Revision)
		for _, of := range put.Also {
			fmt.Fprintf(a.stdout, "plan %s has revision %d with it\n", of.Part, of.Revision)
		}
	}
	return a.tellJudged(put.Judged, put.InOrder)
}

// tellJudged tells on which hosts a plan is in order. Where it is not the answer is no.
func (a *app) tellJudged(bad []client.PlanOnHost, good int) error {
	if !a.json() {
		if len(bad)+good > 0 {
			fmt.Fprintf(a.stdout, "in order on %d of %d hosts\n", good, len(bad)+good)
		}
		for _, h := range bad {
			for _, f := range h.Findings {
				fmt.Fprintf(a.stdout, "  %s: %s\n", h.Host, f)
			}
		}
	}
	if len(bad) > 0 {
		return no
	}
	return nil
}

func (a *app) plansCompareCommand() *cobra.Command {
	var who admin
	var from, to int
	var q client.ComparePlan
	c := &cobra.Command{
		Use:   "compare NAME",
		Short: "Compare two revisions of a plan: as text, and by what they do",
		Long: `Compare two revisions of a plan as text, with all their parts. With --since they
judge what each host of the plan has sent to its casks: how many records would go
elsewhere, be kept no longer, or be new. Exit code 1 says that something is kept
no longer.`,
		Example: `  oakbarrel plans compare gate
  oakbarrel plans compare gate --from 3 --to 5 --since 1h`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return who.asked(c.Context(), func(service *client.Client) error {
				after, err := service.Revision(c.Context(), args[0], to)
				if err != nil {
					return err
				}
				if from == 0 {
					from = after.Number - 1
				}
				before := client.PlanRevision{}
				if from > 0 {
					if before, err = service.Revision(c.Context(), args[0], from); err != nil {
						return err
					}
				}
				if q.Since == "" {
					return a.tellDifference(before, after)
				}
				q.From, q.To = from, after.Number
				since, err := parseMoment("--since", q.Since, time.Now())
				if err != nil {
					return err
				}
				q.Since = since.UTC().Format(time.RFC3339)
				all, err := service.ComparePlan(c.Context(), args[0], q)
				if err != nil {
					return err
				}
				return a.tellCompared(all)
			})
		},
	}
	c.Flags().IntVar(&from, "from", 0, "the older revision (default: the one before)")
	c.Flags().IntVar(&to, "to", 0, "the newer revision (default: the last)")
	c.Flags().StringVar(&q.Since, "since", "", "judge what came since: 15m, 2h, 7d")
	c.Flags().IntVar(&q.Limit, "limit", 10_000, "how many records of each host at most, the newest")
	who.flags(c)
	return c
}

func (a *app) tellDifference(before, after client.PlanRevision) error {
	difference := udiff.Unified(fmt.Sprintf("revision %d", before.Number), fmt.Sprintf("revision %d", after.Number), before.Whole, after.Whole)
	if a.json() {
		return a.printJSON(map[string]any{"from": before.Number, "to": after.Number, "difference": difference})
	}
	if difference == "" {
		difference = "the texts are the same\n"
	}
	fmt.Fprint(a.stdout, difference)
	return nil
}

func (a *app) tellCompared(all client.ComparedPlan) error {
	var answer error
	for _, h := range all.Hosts {
		if h.NoLongerKept > 0 {
			answer = no
		}
	}
	if a.json() {
		return errors.Join(a.printJSON(all), answer)
	}
	if len(all.Hosts) == 0 {
		fmt.Fprintln(a.stdout, "no host is assigned to the plan")
		return nil
	}
	rows := [][]string{{"HOST", "RECORDS", "AS BEFORE", "ELSEWHERE", "NO LONGER KEPT", "NEW", "A DAY", "AT MOST"}}
	for _, h := range all.Hosts {
		rows = append(rows, comparedRow(h))
	}
	if len(all.Hosts) > 1 {
		rows = append(rows, comparedRow(all.Together))
	}
	a.table(rows)
	return answer
}

func comparedRow(h client.ComparedHost) []string {
	return []string{h.Host, count(int64(h.Records)), count(int64(h.Same)), count(int64(h.Moved)), count(int64(h.NoLongerKept)), count(int64(h.NewlyKept)), fromTo(h.OldBytesDay, h.NewBytesDay, "-"), fromTo(h.OldAtMost, h.NewAtMost, "no bound")}
}

// fromTo tells of bytes before and after.
func fromTo(before, after *int64, unknown string) string {
	if before == nil && after == nil {
		return unknown
	}
	text := func(n *int64) string {
		if n == nil {
			return unknown
		}
		return size(*n)
	}
	if text(before) == text(after) {
		return text(after)
	}
	return text(before) + " -> " + text(after)
}

func (a *app) plansCheckCommand() *cobra.Command {
	var who admin
	var revision int
	var ask bool
	c := &cobra.Command{
		Use:   "check NAME-OR-DIR",
		Short: "Find what is wrong in a plan for each of its hosts, or in a folder of plans",
		Long: `Find what is wrong in a plan of the service, for each host that it is for. With --ask
the hosts are asked for what only they know: their users, folders, ports, disks and
bounds; they take nothing. With a folder, as plans pull makes one, no service is asked: each plan in it is checked
with its parts, for the hosts and values that stand in its hosts.json.`,
		Example: `  oakbarrel plans check gate
  oakbarrel plans check gate --ask`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if st, err := os.Stat(args[0]); err == nil && st.IsDir() {
				return a.checkFolder(filepath.Clean(args[0]))
			}
			var j client.JudgedPlan
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				if ask {
					j, err = service.AskHosts(c.Context(), args[0], revision)
				} else {
					j, err = service.JudgePlan(c.Context(), args[0], revision)
				}
				return err
			})
			if err == nil && a.json() {
				err = a.printJSON(j)
			}
			if err != nil {
				return err
			}
			if len(j.Silent) > 0 {
				a.say("no answer from %s", strings.Join(j.Silent, ", "))
			}
			return a.tellJudged(j.Judged, j.InOrder)
		},
	}
	c.Flags().IntVar(&revision, "revision", 0, "of the plan (default: the last)")
	c.Flags().BoolVar(&ask, "ask", false, "have the hosts judge it themselves")
	who.flags(c)
	return c
}
