package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
)

// isNoAgent tells whether an error says that no agent runs where one was asked.
func isNoAgent(err error) bool { return errors.Is(err, control.ErrNoAgent) }

// commandsHere are those of agents and services, which run on this system alone.
func (a *app) commandsHere() []*cobra.Command {
	return []*cobra.Command{a.agentCommand(), a.statusCommand(), a.detailCommand(), a.pauseCommand(), a.resumeCommand(), a.traceCommand(), a.doctorCommand(), a.sendCommand(), a.followedCommand(), a.containersCommand(), a.wrapCommand(), a.holdPipeCommand(), a.rollCommand(), a.tendCommand(), a.demoCommand(),
		a.serveCommand(), a.acceptCommand()}
}
