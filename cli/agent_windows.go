package cli

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"oakbarrel/agent"
)

const howToAgent = `"oakbarrel service reload" has it read its plan again; a plan
with errors changes nothing. Ctrl+C stops taking, writes down what is held and exits
within 10 s.`

// agentHere is what the command agent does on this system alone.
type agentHere struct{}

func (h *agentHere) flags(*cobra.Command) {}

func (h *agentHere) begin(*agent.Options) error { return nil }

func (h *agentHere) run(ctx context.Context, o agent.Options) error { return agent.Run(ctx, o) }

// reloadSignals delivers nothing: there is no signal for it.
func reloadSignals() <-chan os.Signal { return nil }

// giveToAgent has nothing to give: the folder's rights hold for what is in it.
func giveToAgent(string, string) error { return nil }

// commandsHere are those that this system has.
func (a *app) commandsHere() []*cobra.Command { return a.commandsOfAgents() }
