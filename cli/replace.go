package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) hostsReplaceCommand() *cobra.Command {
	valid := span(time.Hour)
	var who admin
	c := &cobra.Command{
		Use:   "replace AGENT-ID",
		Short: "Let a host whose token is lost come with another one",
		Long: `Let a host whose token is lost, or was revoked, come with another one: the next
invitation that its agent accepts, or the next new token that it brings, is its
own, and the old one goes. Until then, and without this, the store serves the
agent with no other token. "oakbarrel hosts" tells the ids.`,
		Example: `  oakbarrel hosts replace 0a4c9d1e5b6f70812233445566778899
  oakbarrel hosts replace 0a4c9d1e5b6f70812233445566778899 --valid 1d --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case !isAgentID.MatchString(args[0]):
				return usageError("%q is not the id of an agent; oakbarrel hosts tells them", args[0])
			case !valid.fits():
				return usageError("--valid goes from 1m to 30d")
			}
			err := who.ask(c.Context(), func(service *client.Client) error {
				return service.Replace(c.Context(), args[0], client.Replace{Minutes: valid.minutes()})
			})
			if err != nil {
				return missingOr(err)
			}
			until := time.Now().Add(time.Duration(valid))
			if a.json() {
				return a.printJSON(map[string]any{"agent_id": args[0], "until": until.UTC()})
			}
			fmt.Fprintf(a.stdout, "the agent may come with another token until %s\n", clock(until))
			return nil
		},
	}
	c.Flags().Var(&valid, "valid", "for how long the other token may come, such as 90m or 1d")
	who.flags(c)
	return c
}
