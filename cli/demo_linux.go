package cli

import (
	"os"

	"github.com/spf13/cobra"

	"oakbarrel/demo"
)

func (a *app) demoCommand() *cobra.Command {
	options := demo.Options{Out: a.stdout}
	c := &cobra.Command{
		Use:   "demo",
		Short: "Open Lantern Bay, an aquarium whose hosts talk all day",
		Long: `Open Lantern Bay in the foreground: two agents with plans of their own, and the
programs of a public aquarium that speak to them, with a few faults worth
finding. demo.json in its folder tells programs where everything is.

With --cluster the store is a cluster of three nodes with two shelves beside it and
two services before it, all new each time, of which any may be killed.`,
		Example: `  oakbarrel demo
  oakbarrel demo --dir /tmp/lantern-bay --rate 500`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if options.Rate < 0 {
				return usageError("--rate is not negative")
			}
			if options.Binary, err = os.Executable(); err != nil {
				return couldNot(err)
			}
			return couldNot(demo.Run(c.Context(), options))
		},
	}
	c.Flags().StringVar(&options.Dir, "dir", "lantern-bay", "folder for its plans, state and logs")
	c.Flags().BoolVar(&options.Cluster, "cluster", false, "the store is a cluster, with two shelves and two services")
	c.Flags().Float64Var(&options.Rate, "rate", 20, "messages a second, of all hosts together")
	return c
}
