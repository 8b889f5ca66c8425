//go:build linux || windows

package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/agent"
	"oakbarrel/core/plan"
	"oakbarrel/unit"
)

func (a *app) agentCommand() *cobra.Command {
	var options agent.Options
	var level string
	here := &agentHere{}
	c := &cobra.Command{
		Use:   "agent [--plan FILE]",
		Short: "Take records in and write them out, in the foreground",
		Long: `Take records in and write them out as the plan says, in the foreground.

"ready" alone on a line on stdout says that every intake is open. The agent's
own log goes to stderr. ` + howToAgent,
		Example: `  oakbarrel agent --plan /etc/oakbarrel/plan.yaml
  oakbarrel agent --plan lantern-bay/tide-gw/plan.yaml --state lantern-bay/tide-gw/state`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			options.Reload = here.reloads()
			options.LogLevel = new(slog.LevelVar)
			if err := options.LogLevel.UnmarshalText([]byte(level)); err != nil || !slices.Contains(logLevels, strings.ToLower(level)) {
				return usageError("--log-level cannot be %q; write %s", level, strings.Join(logLevels, ", "))
			}
			options.Log = slog.New(slog.NewTextHandler(here.log(a.stderr, options.StateDir), &slog.HandlerOptions{Level: options.LogLevel}))
			options.Unit = unit.Open()
			options.Ready = func() { fmt.Fprintln(a.stdout, "ready") }
			if err := here.begin(&options); err != nil {
				return couldNot(err)
			}
			err := here.run(c.Context(), options)
			told := a.agentError(err)
			if err != nil {
				options.Unit.Rest(c.Context(), err)
			}
			return told
		},
	}
	c.Flags().StringVar(&options.PlanFile, "plan", defaultPlan, "file of the plan")
	c.Flags().StringVar(&level, "log-level", "info", "what the agent's own log tells at least: "+strings.Join(logLevels, ", ")+"; \"oakbarrel detail --own\" changes it for a while")
	c.Flags().StringVar(&options.BoundsFile, "bounds", plan.BoundsFile, "file in which this host's owner says what a plan from the service may do")
	here.flags(c)
	c.Flags().StringVar(&options.Host, "host", "", "name of this host where the plan says none; by default the machine's")
	stateFlag(c, &options.StateDir)
	return c
}

// logLevels are those of the agent's own log.
var logLevels = []string{"debug", "info", "warn", "error"}

// agentError prints the findings of a refused plan, and sorts out which errors mean no.
func (a *app) agentError(err error) error {
	var refused *agent.PlanError
	if errors.As(err, &refused) {
		for _, f := range refused.Findings {
			fmt.Fprintln(a.stderr, f)
		}
		return no
	}
	var cannotOpen *agent.IntakeError
	var cannotServe *agent.MetricsError
	if errors.As(err, &cannotOpen) || errors.As(err, &cannotServe) {
		return codedError{exitNo, err}
	}
	return couldNot(err)
}
