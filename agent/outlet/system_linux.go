package outlet

import (
	"crypto/tls"
	"errors"
	"net"

	"golang.org/x/sys/unix"

	"oakbarrel/core/plan"
)

// errLong says that a message is longer than a datagram can be.
const errLong = unix.EMSGSIZE

// roadHere returns the road of an outlet that this system alone has, nil for none.
func (a *Agent) roadHere(s plan.Outlet) (road, error) {
	if s.Kind == plan.JournalOutlet {
		return newJournalRoad(s.Journal.Socket()), nil
	}
	return nil, nil
}

// unacknowledged returns how many bytes of a connection are not acknowledged.
func unacknowledged(conn net.Conn) (left int, err error) {
	if encrypted, ok := conn.(*tls.Conn); ok {
		conn = encrypted.NetConn()
	}
	raw, err := conn.(*net.TCPConn).SyscallConn()
	if err != nil {
		return 0, err
	}
	var failed error
	err = raw.Control(func(fd uintptr) { left, failed = unix.IoctlGetInt(int(fd), unix.SIOCOUTQ) })
	return left, errors.Join(err, failed)
}
