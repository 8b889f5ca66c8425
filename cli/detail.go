//go:build linux || windows

package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/core/record"
)

func (a *app) detailCommand() *cobra.Command {
	c := group("detail", "Lower the threshold of a rule, or of the agent's own log, for a while", `  oakbarrel detail open --state lantern-bay/tide-gw/state --rule errors --to debug --for 30m
  oakbarrel detail --own --state lantern-bay/tide-gw/state --for 10m`,
		"detail open --rule NAME --to debug --for 30m, detail --own --for 30m, or detail close --rule NAME", a.detailOpenCommand(), a.detailCloseCommand())
	refuse := c.RunE
	own := a.detailOpenCommand() // "detail --own" is "detail open --own"
	c.Flags().AddFlagSet(own.Flags())
	c.Flags().Lookup("rule").Hidden = true
	delete(c.Flags().Lookup("rule").Annotations, cobra.BashCompOneRequiredFlag)
	c.RunE = func(c *cobra.Command, args []string) error {
		if !c.Flags().Changed("own") {
			return refuse(c, args)
		}
		own.SetContext(c.Context())
		return own.RunE(own, args)
	}
	return c
}

// oneWindow refuses what names no window, or two.
func oneWindow(rule string, own bool) error {
	if own == (rule != "") {
		return usageError("a window is of a rule, or of the agent's own log; write --rule NAME, or --own")
	}
	return nil
}

func (a *app) detailOpenCommand() *cobra.Command {
	var state, rule, to string
	var own bool
	var span time.Duration
	c := &cobra.Command{
		Use:   "open (--rule NAME | --own) --to SEVERITY --for TIME",
		Short: "Open a detail window",
		Long: `Open a detail window: the threshold of a rule, its "severity at least", is lowered
for a while and goes back by itself, also after a restart of the agent. Only a
rule with one such test has a window. The program that you hunt must also speak
in that detail: its own settings may keep debug messages back.

With --own it is what the agent's own log tells at least: debug, info, warning or
error.`,
		Example: `  oakbarrel detail open --state lantern-bay/tide-gw/state --rule errors --to debug --for 30m
  oakbarrel detail open --rule 'ticket faults' --to info --for 2h`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if _, ok := record.ParseSeverity(to); !ok {
				return usageError("--to cannot be %q; write one of %s", to, strings.Join(record.Severities[:], ", "))
			}
			if span < time.Second || span > 24*time.Hour {
				return usageError("--for is from 1s to 24h")
			}
			if err := oneWindow(rule, own); err != nil {
				return err
			}
			d, err := control.OpenDetail(c.Context(), state, rule, to, span)
			if err != nil {
				return detailError(err)
			}
			if a.json() {
				return a.printJSON(d)
			}
			if own {
				fmt.Fprintf(a.stdout, "the agent's own log tells %s and worse, instead of %s, until %s\n", d.To, d.From, clock(d.Until))
				return nil
			}
			fmt.Fprintf(a.stdout, "rule %q takes severity at least %s, instead of %s, until %s\n", d.Rule, d.To, d.From, clock(d.Until))
			fmt.Fprintln(a.stdout, "The program itself must also speak in that detail.")
			return nil
		},
	}
	stateFlag(c, &state)
	c.Flags().StringVar(&rule, "rule", "", "name of the rule, as status and explain show it")
	c.Flags().StringVar(&to, "to", "debug", "the severity that the rule takes meanwhile")
	c.Flags().DurationVar(&span, "for", 30*time.Minute, "how long, such as 30m")
	c.Flags().BoolVar(&own, "own", false, "the window of the agent's own log")
	return c
}

func (a *app) detailCloseCommand() *cobra.Command {
	var state, rule string
	var own bool
	c := &cobra.Command{
		Use:   "close (--rule NAME | --own)",
		Short: "Close a detail window before its time",
		Example: `  oakbarrel detail close --state lantern-bay/tide-gw/state --rule errors
  oakbarrel detail close --own`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := oneWindow(rule, own); err != nil {
				return err
			}
			closed, err := control.CloseDetail(c.Context(), state, rule)
			if err != nil {
				return detailError(err)
			}
			if a.json() {
				err = a.printJSON(map[string]any{"rule": rule, "closed": closed})
			} else if what := windowOf(rule); closed {
				fmt.Fprintf(a.stdout, "the window of %s is closed\n", what)
			} else {
				fmt.Fprintf(a.stdout, "%s has no window open\n", what)
			}
			if err == nil && !closed {
				err = no
			}
			return err
		},
	}
	stateFlag(c, &state)
	c.Flags().StringVar(&rule, "rule", "", "name of the rule")
	c.Flags().BoolVar(&own, "own", false, "the window of the agent's own log")
	return c
}

// windowOf names whose window it is.
func windowOf(rule string) string {
	if rule == "" {
		return "the agent's own log"
	}
	return fmt.Sprintf("rule %q", rule)
}

// detailError gives a refusal of the agent the exit code of no.
func detailError(err error) error {
	var refused *control.Refused
	if errors.As(err, &refused) {
		return codedError{exitNo, refused}
	}
	return couldNot(err)
}
