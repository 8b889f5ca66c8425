package outlet

import (
	"net"

	"golang.org/x/sys/windows"

	"oakbarrel/core/plan"
)

// errLong says that a message is longer than a datagram can be.
const errLong = windows.WSAEMSGSIZE

// roadHere returns the road of an outlet that this system alone has, nil for none.
func (a *Agent) roadHere(s plan.Outlet) (road, error) {
	if s.Kind == plan.EventsOutlet {
		return &eventRoad{to: GoesTo(s), open: func() (eventWriter, error) { return openEventWriter(s.Events) }}, nil
	}
	return nil, nil
}

// unacknowledged tells of nothing: the system does not say how much of a connection is not
// acknowledged.
func unacknowledged(net.Conn) (left int, err error) { return 0, nil }
