//go:build linux || windows

package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/client"
)

// paused reads which outlet or rule is meant.
func paused(args []string, rule string) (p client.Pause, err error) {
	if (len(args) == 1) == (rule != "") {
		return p, usageError("name an outlet, or a rule with --rule NAME")
	}
	if p.Rule = rule; len(args) == 1 {
		p.Outlet = args[0]
	}
	return p, nil
}

// nameOf names what is paused, for people.
func nameOf(p client.Pause) string {
	if p.Rule != "" {
		return fmt.Sprintf("rule %q", p.Rule)
	}
	return "outlet " + p.Outlet
}

// does tells what becomes of records meanwhile.
func does(p client.Pause) string {
	switch {
	case p.Rule != "":
		return "is as if the plan did not have it"
	case p.Drop:
		return "sheds what comes"
	}
	return "holds what comes"
}

func (a *app) pauseCommand() *cobra.Command {
	var state, rule string
	var drop bool
	length := span(time.Hour)
	c := &cobra.Command{
		Use:   "pause (OUTLET | --rule NAME) [--for 1h]",
		Short: "Switch an outlet or a rule off for a while",
		Long: `Switch an outlet or a rule off for a while. It goes on by itself, also after a
restart of the agent, or with "oakbarrel resume".

An outlet that is paused holds what comes: in its spool, or in 1 MiB of memory for
files, whose intakes wait then if they can. With --drop it sheds what comes, and
counts it. A rule that is paused is as if the plan did not have it.`,
		Example: `  oakbarrel pause centre --for 2h --state lantern-bay/reef-02/state
  oakbarrel pause --rule 'probe chatter' --for 10m --state lantern-bay/reef-02/state`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			what, err := paused(args, rule)
			if err != nil {
				return err
			}
			if drop && rule != "" {
				return usageError("--drop is for outlets; records go past a rule that is paused")
			}
			what.Drop = drop
			p, err := control.Pause(c.Context(), state, what, time.Duration(length))
			if err != nil {
				return detailError(err)
			}
			if a.json() {
				return a.printJSON(p)
			}
			fmt.Fprintf(a.stdout, "%s is paused until %s, and %s\n", nameOf(p), clock(p.Until), does(p))
			return nil
		},
	}
	stateFlag(c, &state)
	c.Flags().StringVar(&rule, "rule", "", "name of the rule, as status and explain show it")
	c.Flags().BoolVar(&drop, "drop", false, "shed what comes for the outlet, instead of holding it")
	c.Flags().Var(&length, "for", "how long, such as 10m, 2h or 1d; at most 30d")
	return c
}

func (a *app) resumeCommand() *cobra.Command {
	var state, rule string
	c := &cobra.Command{
		Use:   "resume (OUTLET | --rule NAME)",
		Short: "Have an outlet or a rule that is paused go on",
		Long:  `Have an outlet or a rule that is paused go on before its time. Exit code 1 says that it is not paused.`,
		Example: `  oakbarrel resume centre --state lantern-bay/reef-02/state
  oakbarrel resume --rule 'probe chatter' --state lantern-bay/reef-02/state`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			what, err := paused(args, rule)
			if err != nil {
				return err
			}
			resumed, err := control.Resume(c.Context(), state, what)
			if err != nil {
				return detailError(err)
			}
			if a.json() {
				err = a.printJSON(map[string]any{"outlet": what.Outlet, "rule": what.Rule, "resumed": resumed})
			} else if resumed {
				fmt.Fprintf(a.stdout, "%s goes on\n", nameOf(what))
			} else {
				fmt.Fprintf(a.stdout, "%s is not paused\n", nameOf(what))
			}
			if err == nil && !resumed {
				err = no
			}
			return err
		},
	}
	stateFlag(c, &state)
	c.Flags().StringVar(&rule, "rule", "", "name of the rule")
	return c
}
