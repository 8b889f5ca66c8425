package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/client"
)

func (a *app) containersCommand() *cobra.Command {
	var state string
	c := &cobra.Command{
		Use:   "containers",
		Short: "Show what containers say, and which need attention",
		Long: `Show, of each container on the host, the records a minute by stream, how its
output is kept, and what it writes into its own file system; those that need
attention first, with the remedy for each.`,
		Example: `  oakbarrel containers --state lantern-bay/kelp-01/state
  oakbarrel containers --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := control.AskContainers(c.Context(), state)
			if err != nil {
				return couldNot(err)
			}
			if a.json() {
				return a.printJSON(list)
			}
			a.printContainers(list)
			return nil
		},
	}
	stateFlag(c, &state)
	return c
}

func (a *app) printContainers(list []client.ContainerStatus) {
	if len(list) == 0 {
		fmt.Fprintln(a.stdout, "no container is found: the plan has no intake of containers, or its root holds none")
		return
	}
	rows := [][]string{{"CONTAINER", "IMAGE", "RUNS", "STDOUT/MIN", "STDERR/MIN", "KEPT AS", "OWN FILES", "GROWTH/H", "READ"}}
	for _, c := range list {
		read, runs := "yes", "no"
		if !c.Read {
			read = "no: " + c.Why
		}
		if c.Running {
			runs = "yes"
		}
		rows = append(rows, []string{nameOfContainer(c), c.Image, runs, perMinute(c.Stdout), perMinute(c.Stderr), c.Driver, size(c.LayerBytes), size(c.LayerGrowth), read})
	}
	a.table(rows)
	for _, c := range list {
		for _, advice := range c.Advice {
			fmt.Fprintf(a.stdout, "\n%s: %s\n  remedy: %s\n", nameOfContainer(c), advice.What, advice.Remedy)
		}
		for _, g := range c.Growing {
			fmt.Fprintf(a.stdout, "  %s has grown by %s to %s\n", g.Path, size(g.Grown), size(g.Bytes))
		}
	}
}

func nameOfContainer(c client.ContainerStatus) string {
	if c.Pod != "" {
		return c.Pod + "/" + c.Name
	}
	return c.Name
}

func perMinute(n float64) string { return strings.TrimSuffix(strconv.FormatFloat(n, 'f', 1, 64), ".0") }
