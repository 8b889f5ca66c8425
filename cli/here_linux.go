package cli

import "github.com/spf13/cobra"

// commandsHere are those that this system has.
func (a *app) commandsHere() []*cobra.Command {
	return append(a.commandsOfAgents(), a.containersCommand(), a.holdPipeCommand(), a.demoCommand(), a.serveCommand())
}
