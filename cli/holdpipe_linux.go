package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"oakbarrel/agent/intake"
)

// holdPipeCommand is what the agent starts to hold a named pipe open.
func (a *app) holdPipeCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "hold-pipe PATH LOCK",
		Short:   "Hold a named pipe open, for an agent",
		Example: `  oakbarrel hold-pipe /run/gate/app.log /var/lib/oakbarrel/pipes/app`,
		Hidden:  true,
		Args:    cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := intake.HoldPipe(args[0], args[1], func() { fmt.Fprintln(a.stdout, "ready") }); err != nil {
				return couldNot(err)
			}
			return nil
		},
	}
}
