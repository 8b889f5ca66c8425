package intake

import (
	"crypto/rand"
	"net"
	"sync"
	"syscall"

	"oakbarrel/agent/guard"
	"oakbarrel/core/wire"
	"oakbarrel/unit"
)

// handedFile is where a state folder notes the connections that the next run goes on with.
const handedFile = "connections.json"

// handed is a connection that the next run of the agent goes on with.
type handed struct {
	Name     string // under which the manager keeps it
	Endpoint string
	Begun    []byte // the start of a message whose end has not come
	Framer   wire.FramerState
}

// handovers are the connections that go from one run to the next.
type handovers struct {
	mu   sync.Mutex
	read sync.Once
	came map[string][]handed // of the run before, by endpoint
	next []handed            // of this run
}

// handOver gives a connection to the next run of the agent, where that is to come, and
// tells whether it did. Encrypted ones cannot go: their keys stay here.
func (c *streamConn) handOver() bool {
	a := c.endpoint.agent
	if c.raw == nil || !a.Unit.IsLeaving() {
		return false
	}
	h := handed{Name: rand.Text(), Endpoint: c.endpoint.text, Begun: c.begun, Framer: c.framer.State()}
	a.Unit.Keep(unit.Connection, h.Name, c.conn.(syscall.Conn))
	a.handovers.mu.Lock()
	defer a.handovers.mu.Unlock()
	a.handovers.next = append(a.handovers.next, h)
	return true
}

// saveHanded notes which connections the next run is to go on with.
func (a *Agent) saveHanded() {
	if !a.Unit.IsLeaving() {
		return
	}
	a.handovers.mu.Lock()
	defer a.handovers.mu.Unlock()
	if err := a.State.Save(handedFile, a.handovers.next); err != nil {
		a.Log.Warn("it cannot be noted which connections go on; they end", "why", err)
	}
}

// handedTo returns the connections of the run before that an endpoint goes on with, once.
func (a *Agent) handedTo(endpoint string) []handed {
	o := &a.handovers
	o.read.Do(func() {
		var all []handed
		a.State.Load(handedFile, &all) // there may be none
		o.came = map[string][]handed{}
		for _, h := range all {
			o.came[h.Endpoint] = append(o.came[h.Endpoint], h)
		}
		if len(all) > 0 {
			a.State.Save(handedFile, []handed{}) // they are gone on with once
		}
	})
	o.mu.Lock()
	defer o.mu.Unlock()
	all := o.came[endpoint]
	delete(o.came, endpoint)
	return all
}

// resume goes on with the connections of the run before. What is left of one that the
// manager does not have any more is a message.
func (e *streamEndpoint) resume() {
	for _, h := range e.agent.handedTo(e.text) {
		c := &streamConn{endpoint: e, begun: h.Begun}
		s := e.Owner().syslog.Load()
		c.framer.Largest, c.framer.Frames = s.Largest, s.Frames
		c.framer.Resume(h.Framer)
		file, _ := e.agent.Unit.Take(unit.Connection, h.Name)
		if file == nil {
			e.agent.Guard.Run(guard.Intake(e.Owner().Name()), c.rest)
			continue
		}
		e.agent.Unit.LetGo(unit.Connection, h.Name)
		conn, err := net.FileConn(file)
		file.Close()
		if err != nil {
			e.tell("a connection cannot be gone on with", err)
			continue
		}
		e.take(c, conn)
	}
}
