package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) rolloutCommand() *cobra.Command {
	return group("rollout", "Bring a revision of a plan to its hosts, in waves that take themselves back", `  oakbarrel rollout start gate --why 'badges to their own file' --watch
  oakbarrel rollout take-back 12`,
		"rollout start PLAN --why TEXT, list, watch ID, pause ID, go-on ID, or take-back ID",
		a.rolloutStartCommand(), a.rolloutListCommand(), a.rolloutWatchCommand(),
		a.steerCommand("pause", "Have no further host of a roll-out take the plan"),
		a.steerCommand("go-on", "Have a roll-out go on that is paused, or approve one that was proposed"),
		a.steerCommand("take-back", "Have all hosts of a roll-out go back to the plan that they had"))
}

func (a *app) rolloutStartCommand() *cobra.Command {
	var who admin
	var n client.NewRollout
	var wait time.Duration
	var watch bool
	c := &cobra.Command{
		Use:   "start PLAN",
		Short: "Begin to roll a revision out to the hosts that the plan is assigned to",
		Long: `Begin to roll a revision out, in waves: so many hosts, a share of them, all. Each host
takes the plan, and judges it for a while: the balance closes, nothing is in trouble,
unparsed or limited that was not before, and records still come from the intakes that
had them. A host on which it does harm goes back to the plan that it had by itself; so
many of them have all of it taken back.

With --watch the exit code is 1 where it is taken back.`,
		Example: `  oakbarrel rollout start gate --why 'badges to their own file'
  oakbarrel rollout start gate --revision 7 --waves '1, 10%, all' --wait 2m --failures 2 --why 'quieter probes' --watch`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			n.Plan, n.Seconds = args[0], int(wait.Seconds())
			if wait < time.Second || wait > time.Hour {
				return usageError("--wait cannot be %s; a host judges a plan for 1s to 1h", wait)
			}
			return who.asked(c.Context(), func(service *client.Client) error {
				r, err := service.StartRollout(c.Context(), n)
				if err != nil {
					return err
				}
				if watch {
					return a.watchRollout(c.Context(), service, r.ID)
				}
				return a.tellRollout(r)
			})
		},
	}
	c.Flags().IntVar(&n.Revision, "revision", 0, "of the plan (default: the last)")
	c.Flags().StringVar(&n.Waves, "waves", "1, 10%, all", "how many hosts have it after each wave")
	c.Flags().DurationVar(&wait, "wait", time.Minute, "for how long each host judges it")
	c.Flags().IntVar(&n.Failures, "failures", 1, "how many hosts that fail have all of it taken back")
	c.Flags().StringVar(&n.Why, "why", "", "why it is rolled out")
	c.Flags().BoolVar(&watch, "watch", false, "watch it until it ends")
	c.MarkFlagRequired("why")
	who.flags(c)
	return c
}

func (a *app) rolloutListCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "list",
		Short: "List the roll-outs, the newest first",
		Example: `  oakbarrel rollout list
  oakbarrel rollout list --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all := []client.Rollout{}
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				all, err = service.Rollouts(c.Context())
				return err
			})
			switch {
			case err != nil || a.json():
				return orPrint(a, err, all)
			case len(all) == 0:
				fmt.Fprintln(a.stdout, "nothing was rolled out yet; begin with: oakbarrel rollout start PLAN --why TEXT")
				return nil
			}
			rows := [][]string{{"ID", "PLAN", "REVISION", "STATE", "HOSTS", "BY", "WHEN", "WHY", "NOTE"}}
			for _, r := range all {
				rows = append(rows, []string{fmt.Sprint(r.ID), r.Plan, fmt.Sprint(r.Revision), stateOf(r), hostCounts(r), r.By, ago(r.Created), r.Why, orNone(r.Note)})
			}
			a.table(rows)
			return nil
		},
	}
	who.flags(c)
	return c
}

func stateOf(r client.Rollout) string { return strings.ReplaceAll(string(r.State), "_", " ") }

// hostStates are the states of hosts in the order in which they are told.
var hostStates = []string{"kept", "judged", "ordered", "waiting", "silent", "failed", "going back", "back", "away"}

func hostCounts(r client.Rollout) string {
	var parts []string
	for _, state := range hostStates {
		if n := r.Counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(parts, ", ")
}

func (a *app) rolloutWatchCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "watch ID",
		Short: "Watch a roll-out until it ends",
		Long: `Watch a roll-out until it ends, or waits for a person. The exit code is 1 where it is
taken back. With --output json a line tells each change.`,
		Example: `  oakbarrel rollout watch 12
  oakbarrel rollout watch 12 --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := rolloutID(args[0])
			if err != nil {
				return err
			}
			return who.asked(c.Context(), func(service *client.Client) error { return a.watchRollout(c.Context(), service, id) })
		},
	}
	who.flags(c)
	return c
}

func rolloutID(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		return 0, usageError("%q is not the number of a roll-out; oakbarrel rollout list tells them", text)
	}
	return id, nil
}

// watchTime is between two looks at a roll-out.
const watchTime = time.Second

// watchRollout tells each change of a roll-out until it ends, or waits for a person.
func (a *app) watchRollout(ctx context.Context, service *client.Client, id uint64) error {
	told := map[string]string{} // what was told of each host
	last := ""
	for {
		r, err := service.Rollout(ctx, id)
		if err != nil {
			return err
		}
		if line := fmt.Sprintf("%s %v %s", r.State, r.Counts, r.Note); line != last {
			last = line
			if err := a.tellStep(r, told); err != nil {
				return err
			}
		}
		switch {
		case r.State == client.RolloutTakenBack:
			return no
		case r.State.Ended() || r.State == client.RolloutProposed || r.State == client.RolloutPaused:
			return nil
		}
		select {
		case <-ctx.Done():
			return couldNot(ctx.Err())
		case <-time.After(watchTime):
		}
	}
}

func (a *app) tellStep(r client.Rollout, told map[string]string) error {
	if a.json() {
		return a.printJSON(r)
	}
	for _, h := range r.Hosts {
		if h.Why != "" && told[h.AgentID] != h.State+h.Why {
			told[h.AgentID] = h.State + h.Why
			fmt.Fprintf(a.stdout, "  %s %s: %s\n", h.Host, h.State, h.Why)
		}
	}
	fmt.Fprintf(a.stdout, "%s  wave %d of %d  %s  %s%s\n", bar(r), r.Wave, len(r.Waves), stateOf(r), hostCounts(r), note(r))
	return nil
}

// barWidth is how many characters a bar has.
const barWidth = 30

// bar shows how many hosts keep the plan, and judge it.
func bar(r client.Rollout) string {
	all := max(1, len(r.Hosts))
	keep := r.Counts["kept"] * barWidth / all
	under := (r.Counts["kept"]+r.Counts["judged"])*barWidth/all - keep
	return "[" + strings.Repeat("#", keep) + strings.Repeat("+", under) + strings.Repeat(".", barWidth-keep-under) + "]"
}

func note(r client.Rollout) string {
	if r.Note == "" {
		return ""
	}
	return "\n  " + r.Note
}

func (a *app) tellRollout(r client.Rollout) error {
	if a.json() {
		return a.printJSON(r)
	}
	var waves []string
	for _, n := range r.Waves {
		waves = append(waves, fmt.Sprint(n))
	}
	fmt.Fprintf(a.stdout, "roll-out %d: plan %s, revision %d, is %s; waves of %s hosts, each judges it for %s\n", r.ID, r.Plan, r.Revision, stateOf(r), strings.Join(waves, ", "), time.Duration(r.Seconds)*time.Second)
	if r.Note != "" {
		fmt.Fprintln(a.stdout, "  "+r.Note)
	}
	return nil
}

func (a *app) steerCommand(where, short string) *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   where + " ID",
		Short: short,
		Example: fmt.Sprintf(`  oakbarrel rollout %s 12
  oakbarrel rollout %s 12 --account noor --password-file noor.password`, where, where),
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := rolloutID(args[0])
			if err != nil {
				return err
			}
			return who.asked(c.Context(), func(service *client.Client) error {
				r, err := service.SteerRollout(c.Context(), id, where)
				if err != nil {
					return err
				}
				return a.tellRollout(r)
			})
		},
	}
	who.flags(c)
	return c
}
