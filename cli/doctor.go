//go:build linux || windows

package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"oakbarrel/agent/doctor"
)

func (a *app) doctorCommand() *cobra.Command {
	var planFile, state string
	here := &doctorHere{}
	c := &cobra.Command{
		Use:   "doctor",
		Short: "Find what would stop this host from working",
		Long: `Find what would stop this host from working: findings in the plan, ports and
sockets that others have, folders without permission, disks too small for what
keep allows, certificates about to end, a token that is refused, a clock apart
from the service's, and troubles of a running agent.
` + doctorsHere + `
Exit code 1 says that something is wrong.`,
		Example: `  oakbarrel doctor --plan lantern-bay/tide-gw/plan.yaml --state lantern-bay/tide-gw/state
  oakbarrel doctor --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if text, done, err := here.answer(c.Context(), planFile); done {
				fmt.Fprint(a.stdout, text)
				return couldNot(err)
			}
			checks := doctor.Diagnose(c.Context(), planFile, state)
			var err error
			if a.json() {
				err = a.printJSON(checks)
			} else {
				a.printChecks(checks)
			}
			for _, k := range checks {
				if err == nil && k.Verdict == doctor.VerdictWrong {
					err = no
				}
			}
			return err
		},
	}
	c.Flags().StringVar(&planFile, "plan", defaultPlan, "file of the plan")
	here.flags(c)
	stateFlag(c, &state)
	return c
}

func (a *app) printChecks(checks []doctor.Check) {
	rows := [][]string{}
	wrong, warnings := 0, 0
	for _, k := range checks {
		text := k.What
		if k.Mend != "" {
			text += "; " + k.Mend
		}
		rows = append(rows, []string{k.Verdict, k.Subject, text})
		switch k.Verdict {
		case doctor.VerdictWrong:
			wrong++
		case doctor.VerdictWarning:
			warnings++
		}
	}
	a.table(rows)
	switch {
	case wrong > 0:
		fmt.Fprintf(a.stdout, "\n%s wrong, %s\n", count(int64(wrong)), plural(warnings, "warning"))
	case warnings > 0:
		fmt.Fprintf(a.stdout, "\nnothing is wrong; %s\n", plural(warnings, "warning"))
	default:
		fmt.Fprintln(a.stdout, "\nnothing is wrong")
	}
}
