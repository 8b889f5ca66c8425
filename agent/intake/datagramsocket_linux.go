package intake

import (
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// datagramSocket is a bound socket that is waited for outside of the runtime's
// poller: there each datagram would wake a thread, also during a nap.
type datagramSocket struct {
	fd     int
	ending int // an eventfd, readable once the waiting is to end
	ended  atomic.Bool
	once   sync.Once
}

// boundConn is a socket of package net.
type boundConn interface {
	syscall.Conn
	Close() error
}

// detach takes the socket of conn out of the runtime's hands. Conn is closed.
func detach(conn boundConn) (*datagramSocket, error) {
	defer conn.Close()
	raw, err := conn.SyscallConn()
	if err != nil {
		return nil, err
	}
	s := &datagramSocket{}
	if e := raw.Control(func(fd uintptr) { s.fd, err = unix.FcntlInt(fd, unix.F_DUPFD_CLOEXEC, 0) }); e != nil {
		return nil, e
	}
	if err != nil {
		return nil, err
	}
	if s.ending, err = unix.Eventfd(0, unix.EFD_CLOEXEC); err != nil {
		unix.Close(s.fd)
		return nil, err
	}
	return s, nil
}

// wait waits for a datagram, or the end.
func (s *datagramSocket) wait() {
	fds := [2]unix.PollFd{{Fd: int32(s.ending), Events: unix.POLLIN}, {Fd: int32(s.fd), Events: unix.POLLIN}}
	unix.Poll(fds[:], -1)
}

// nap lets datagrams gather, without being woken by them.
func (s *datagramSocket) nap(d time.Duration) {
	fds := [1]unix.PollFd{{Fd: int32(s.ending), Events: unix.POLLIN}}
	t := unix.NsecToTimespec(int64(d))
	unix.Ppoll(fds[:], &t, nil)
}

// end ends the waiting, now and from now on.
func (s *datagramSocket) end() {
	s.ended.Store(true)
	unix.Write(s.ending, []byte{1, 0, 0, 0, 0, 0, 0, 0})
}

func (s *datagramSocket) close() {
	s.once.Do(func() {
		unix.Close(s.fd)
		unix.Close(s.ending)
	})
}
