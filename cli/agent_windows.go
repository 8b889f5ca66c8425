package cli

import "github.com/spf13/cobra"

// giveToAgent has nothing to give: the folder's rights hold for what is in it.
func giveToAgent(string, string) error { return nil }

// commandsHere are those that this system has.
func (a *app) commandsHere() []*cobra.Command {
	return append(a.commandsOfAgents(), a.serviceCommand())
}
