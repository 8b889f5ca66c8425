//go:build linux || windows

package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
)

// isNoAgent tells whether an error says that no agent runs where one was asked.
func isNoAgent(err error) bool { return errors.Is(err, control.ErrNoAgent) }

// commandsOfAgents are those of agents, which run on these systems alone.
func (a *app) commandsOfAgents() []*cobra.Command {
	return []*cobra.Command{a.agentCommand(), a.statusCommand(), a.detailCommand(), a.pauseCommand(), a.resumeCommand(), a.traceCommand(), a.doctorCommand(), a.sendCommand(), a.followedCommand(), a.wrapCommand(), a.rollCommand(), a.tendCommand(), a.acceptCommand()}
}
