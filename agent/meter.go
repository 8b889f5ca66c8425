package agent

import (
	"fmt"
	"sync"

	"oakbarrel/agent/figures"
	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/metrics"
)

// meter serves the agent's figures where the plan says. What changes it holds changing.
type meter struct {
	figures *metrics.Figures

	mu      sync.Mutex // of what follows, which is looked at by others
	listen  string     // as the plan says, "" for nowhere
	server  *metrics.Server
	trouble string // why it is not open
}

// MetricsError says that the figures cannot be served where a plan says.
type MetricsError struct {
	Listen string
	Err    error
}

func (e *MetricsError) Error() string {
	return fmt.Sprintf("metrics: %s cannot be listened on: %v", e.Listen, e.Err)
}

func (e *MetricsError) Unwrap() error { return e.Err }

// openMetrics serves the figures where a plan says, and no more where the one before did.
// Where that fails all stays as it is, but for an agent that is patient: that tries again.
func (a *Agent) openMetrics(p *plan.Plan) error {
	before := a.meter.listen
	if before == p.Metrics.Listen {
		return nil
	}
	a.meter.close()
	err := a.listenMetrics(p.Metrics.Listen)
	if err == nil || a.patient {
		return nil
	}
	if again := a.listenMetrics(before); again != nil {
		a.log.Error("the figures cannot be served any more", "why", again)
	}
	return err
}

func (a *Agent) listenMetrics(address string) (err error) {
	m := &a.meter
	var server *metrics.Server
	if address != "" {
		if server, err = metrics.Listen(address, a.log, a.meter.figures); err != nil {
			err = &MetricsError{address, err}
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	was := m.trouble
	m.listen, m.server, m.trouble = address, server, ""
	if err != nil {
		m.trouble = err.Error()
	}
	if was == "" && err != nil {
		a.log.Error("the figures cannot be served; it is tried again", "why", err)
	} else if server != nil {
		a.log.Info("the figures are served", "address", "http://"+server.Address()+metrics.Path)
	}
	return err
}

// retryMetrics tries again what could not be listened on.
func (a *Agent) retryMetrics() {
	a.changing.Lock()
	defer a.changing.Unlock()
	if a.meter.trouble != "" && !a.stopping {
		a.listenMetrics(a.meter.listen)
	}
}

func (m *meter) close() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.server != nil {
		m.server.Close()
	}
	m.listen, m.server, m.trouble = "", nil, ""
}

// status tells where the figures are served, nil where the plan does not ask for it.
func (m *meter) status() *client.MetricsStatus {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.listen == "" {
		return nil
	}
	s := &client.MetricsStatus{Listen: m.listen, Trouble: m.trouble}
	if m.server != nil {
		s.Listen = m.server.Address()
	}
	return s
}

// figuresOf returns the figures of an agent; where they fail, nothing else does.
func figuresOf(a *Agent) *metrics.Figures {
	f := figures.Of(a.Status, a.Followed)
	return &metrics.Figures{Families: f.Families, Fill: func(p *metrics.Page) {
		a.guard.Run("metrics", func() { f.Fill(p) })
	}}
}
