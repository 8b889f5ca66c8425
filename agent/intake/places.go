package intake

import (
	"fmt"
	"net"
	"sync"
	"sync/atomic"
)

// places bounds how many connections all senders have open at a time, so that
// files, outlets and the control socket find descriptors.
type places struct{ taken atomic.Int64 }

// occupy takes a place, if one is free.
func (p *places) occupy() error {
	most := int64(mostDescriptors() / 2)
	if p.taken.Add(1) > most {
		p.taken.Add(-1)
		return fmt.Errorf("%d connections are open already in all, half of what the system allows the agent (ulimit -n)", most)
	}
	return nil
}

func (p *places) free() { p.taken.Add(-1) }

// placedListener gives each connection a place, and turns away those that find none.
type placedListener struct {
	net.Listener
	places     *places
	turnedAway func(error)
}

func (l placedListener) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if err = l.places.occupy(); err == nil {
			return &placedConn{Conn: conn, free: sync.OnceFunc(l.places.free)}, nil
		}
		l.turnedAway(err)
		conn.Close()
	}
}

type placedConn struct {
	net.Conn
	free func()
}

func (c *placedConn) Close() error {
	defer c.free()
	return c.Conn.Close()
}
