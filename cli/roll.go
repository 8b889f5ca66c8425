//go:build linux || windows

package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/client"
)

func (a *app) rollCommand() *cobra.Command {
	var state string
	c := &cobra.Command{
		Use:   "roll [OUTLET|TEND]",
		Short: "Roll the files of a running agent now",
		Long: `Roll the live files of a running agent now: of one file outlet, of all of them, or
those of other programs under a tend. What the agent holds for them is written
before. An empty file is left alone. Exit code 1 says that nothing was rolled.`,
		Example: `  oakbarrel roll --state lantern-bay/reef-02/state pumps
  oakbarrel roll --state lantern-bay/tide-gw/state
  oakbarrel roll --state lantern-bay/tide-gw/state kiosk`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			outlet := ""
			if len(args) > 0 {
				outlet = args[0]
			}
			rolled, err := control.Roll(c.Context(), state, outlet)
			var refused *control.Refused
			if errors.As(err, &refused) {
				return codedError{exitNo, err}
			}
			if err != nil {
				return couldNot(err)
			}
			return a.printRolled(rolled)
		},
	}
	stateFlag(c, &state)
	return c
}

func (a *app) printRolled(rolled []client.RolledSet) error {
	any := false
	for _, r := range rolled {
		any = any || r.Rolled
		switch {
		case a.json():
		case r.Rolled:
			fmt.Fprintf(a.stdout, "%s: %s\n", r.Outlet, r.Piece)
		default:
			fmt.Fprintf(a.stdout, "%s: %s is not rolled: %s\n", r.Outlet, r.Path, r.Why)
		}
	}
	if a.json() {
		if err := a.printJSON(rolled); err != nil {
			return err
		}
	}
	if !any {
		return no
	}
	return nil
}
