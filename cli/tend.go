//go:build linux || windows

package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/tend"
)

func (a *app) tendCommand() *cobra.Command {
	return group("tend", "Roll and keep the files that other programs write", `  oakbarrel tend run --plan lantern-bay/kelp-01/plan.yaml --dry-run
  oakbarrel tend run --plan lantern-bay/kelp-01/plan.yaml`,
		"tend run --plan FILE", a.tendRunCommand())
}

func (a *app) tendRunCommand() *cobra.Command {
	var file string
	var dry bool
	c := &cobra.Command{
		Use:   "run",
		Short: "Make one pass, as from a timer",
		Long: `Make one pass over the files under tend in a plan: roll what is due, tell its
program to open its file again, wait until it has, compress, and remove what
keep says. A running agent does this by itself; this is for hosts without one.
Exit code 1 says that something could not be done.`,
		Example: `  oakbarrel tend run --plan lantern-bay/kelp-01/plan.yaml --dry-run
  oakbarrel tend run --plan /etc/oakbarrel/plan.yaml`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.loadPlan(file)
			if err != nil {
				return err
			}
			actions, failed := []tend.Action{}, false
			tend.Once(c.Context(), p, dry, func(did tend.Action) {
				actions = append(actions, did)
				failed = failed || did.Action == tend.Failed
				if !a.json() {
					a.printTended(did, dry)
				}
			})
			switch {
			case a.json():
				err = a.printJSON(map[string]any{"dry_run": dry, "actions": actions})
			case len(p.Tends) == 0:
				fmt.Fprintf(a.stdout, "%s tends no files\n", file)
			case len(actions) == 0:
				fmt.Fprintln(a.stdout, "no file is there")
			}
			if err == nil && failed {
				err = no
			}
			return err
		},
	}
	c.Flags().StringVar(&file, "plan", defaultPlan, "the plan")
	c.Flags().BoolVar(&dry, "dry-run", false, "only tell what would be done")
	return c
}

func (a *app) printTended(did tend.Action, dry bool) {
	name := did.Tend + ": "
	switch {
	case did.Action == tend.Rolled && dry:
		fmt.Fprintf(a.stdout, "%swould roll %s: %s\n", name, did.Path, did.Why)
	case did.Action == tend.Rolled:
		fmt.Fprintf(a.stdout, "%srolled %s into %s: %s\n", name, did.Path, did.Piece, did.Why)
		if did.Window > 0 {
			fmt.Fprintf(a.stdout, "  lines written within %s may be lost\n", did.Window.Round(time.Microsecond))
		}
	case did.Action == tend.Left:
		fmt.Fprintf(a.stdout, "%sleft %s: %s\n", name, did.Path, did.Why)
	case did.Action == tend.Removed:
		fmt.Fprintf(a.stdout, "%sremoved %s, by %s\n", name, did.Piece, did.Why)
	case did.Action == tend.Told:
		fmt.Fprintf(a.stdout, "%stold its program: %s\n", name, did.Why)
	case did.Path == "":
		fmt.Fprintf(a.stdout, "%s%s\n", name, did.Why)
	default:
		fmt.Fprintf(a.stdout, "%scannot tend %s: %s\n", name, did.Path, did.Why)
	}
}
