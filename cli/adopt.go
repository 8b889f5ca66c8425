package cli

import (
	"cmp"
	"fmt"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) hostsAdoptCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "adopt [AGENT-ID]",
		Short: "Let in a host that was copied from another one, or list those that wait",
		Long: `Let in a host whose agent brings the token of another one: a copy of a machine or
of a state folder, or a host whose state folder was lost. Such an agent has an
identity of its own, holds what it has, and waits; once it is let in it gets a
token of its own by itself. Without an id, those that wait are listed.`,
		Example: `  oakbarrel hosts adopt
  oakbarrel hosts adopt 0a4c9d1e5b6f70812233445566778899 --account noor --password-file noor.password`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listWaiting(c, &who)
			}
			if !isAgentID.MatchString(args[0]) {
				return usageError("%q is not the id of an agent; oakbarrel hosts adopt lists those that wait", args[0])
			}
			err := who.ask(c.Context(), func(service *client.Client) error { return service.Adopt(c.Context(), args[0]) })
			switch {
			case err != nil:
				return missingOr(err)
			case a.json():
				return a.printJSON(map[string]any{"agent_id": args[0], "adopted": true})
			}
			fmt.Fprintln(a.stdout, "the agent is let in; it goes on within half a minute")
			return nil
		},
	}
	who.flags(c)
	return c
}

func (a *app) listWaiting(c *cobra.Command, who *admin) error {
	waiting := []client.Joining{}
	err := who.ask(c.Context(), func(service *client.Client) (err error) {
		waiting, err = service.Joinings(c.Context())
		return err
	})
	switch {
	case err != nil:
		return storeError(err)
	case a.json():
		return a.printJSON(waiting)
	case len(waiting) == 0:
		fmt.Fprintln(a.stdout, "no agent waits to be let in")
		return nil
	}
	rows := [][]string{{"AGENT", "SAYS IT IS", "BRINGS THE TOKEN OF", "KNOWN AS", "SINCE"}}
	for _, w := range waiting {
		rows = append(rows, []string{w.AgentID, w.Host, w.Was, cmp.Or(w.Sender, "-"), clock(w.Since)})
	}
	a.table(rows)
	return nil
}
