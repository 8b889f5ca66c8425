package cli

import (
	"context"
	"io"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/svc"

	"oakbarrel/agent"
)

const howToAgent = `"oakbarrel service reload" has it read its plan again; a plan
with errors changes nothing. Ctrl+C stops taking, writes down what is held and exits
within 10 s.`

// agentHere is what the command agent does on this system alone: it may be run by the service
// manager.
type agentHere struct {
	asService bool
	reload    chan os.Signal
}

// asServiceFlag says that the service manager runs the agent; "service install" writes it.
const asServiceFlag = "as-service"

func (h *agentHere) flags(c *cobra.Command) {
	c.Flags().BoolVar(&h.asService, asServiceFlag, false, "be run by the service manager")
	c.Flags().MarkHidden(asServiceFlag)
}

// reloads delivers what the service manager passes on when the plan is to be read again.
func (h *agentHere) reloads() <-chan os.Signal {
	h.reload = make(chan os.Signal, 1)
	return h.reload
}

// log returns where the agent's own log goes: a service has no place to write to.
func (h *agentHere) log(stderr io.Writer, stateDir string) io.Writer {
	if !h.asService {
		return stderr
	}
	return newServiceLog(stateDir)
}

func (h *agentHere) begin(*agent.Options) error { return nil }

func (h *agentHere) run(ctx context.Context, o agent.Options) error {
	if !h.asService {
		return agent.Run(ctx, o)
	}
	s := &serviceRun{ctx: ctx, options: o, reload: h.reload}
	if err := svc.Run(serviceName, s); err != nil {
		return err
	}
	return s.err
}

// serviceRun runs the agent as the service manager wants it.
type serviceRun struct {
	ctx     context.Context
	options agent.Options
	reload  chan os.Signal
	err     error
}

// waitHint is how long the service manager is to wait for the next sign, in milliseconds: the
// agent ends within 10 s.
const waitHint = 20_000

// Execute implements [svc.Handler].
func (s *serviceRun) Execute(_ []string, requests <-chan svc.ChangeRequest, told chan<- svc.Status) (bool, uint32) {
	const accepts = svc.AcceptStop | svc.AcceptPreShutdown | svc.AcceptParamChange
	told <- svc.Status{State: svc.StartPending, WaitHint: waitHint}
	ctx, stop := context.WithCancel(s.ctx)
	defer stop()
	ready, ended := make(chan struct{}), make(chan error, 1)
	s.options.Ready = func() { close(ready) }
	go func() { ended <- agent.Run(ctx, s.options) }()
	for {
		select {
		case <-ready:
			ready = nil
			told <- svc.Status{State: svc.Running, Accepts: accepts}
		case s.err = <-ended:
			if s.err != nil {
				s.options.Log.Error("the agent has ended", "why", s.err)
				return false, uint32(windows.ERROR_EXCEPTION_IN_SERVICE)
			}
			return false, 0
		case r := <-requests:
			switch r.Cmd {
			case svc.Interrogate:
				told <- r.CurrentStatus
			case svc.ParamChange:
				select {
				case s.reload <- os.Interrupt:
				default: // one is waiting
				}
				told <- r.CurrentStatus
			case svc.Stop, svc.PreShutdown:
				told <- svc.Status{State: svc.StopPending, WaitHint: waitHint}
				stop()
			}
		}
	}
}
