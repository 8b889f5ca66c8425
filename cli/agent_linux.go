package cli

import (
	"context"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"oakbarrel/agent"
)

const howToAgent = `SIGHUP reads the plan again; a plan with errors changes
nothing. SIGTERM stops taking, writes down what is held and exits within 10 s.`

// agentHere is what the command agent does on this system alone.
type agentHere struct{ user string }

func (h *agentHere) flags(c *cobra.Command) {
	c.Flags().StringVar(&h.user, "user", "", "user to go on as, where root has started it; it keeps what the plan needs: low ports, others' files")
}

func (h *agentHere) begin(o *agent.Options) error {
	if h.user == "" {
		return nil
	}
	return becomeUser(h.user, o.PlanFile, o.StateDir)
}

func (h *agentHere) run(ctx context.Context, o agent.Options) error { return agent.Run(ctx, o) }

// log returns where the agent's own log goes.
func (h *agentHere) log(stderr io.Writer, _ string) io.Writer { return stderr }

// reloads delivers a signal when the plan is to be read again.
func (h *agentHere) reloads() <-chan os.Signal {
	reload := make(chan os.Signal, 1)
	signal.Notify(reload, syscall.SIGHUP)
	return reload
}
