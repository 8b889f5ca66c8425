package intake

import (
	"errors"
	"net"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/core/record"
	"oakbarrel/unit"
)

func (a *Agent) openUnixStream(path string) (Endpoint, error) {
	if !a.Unit.Has(unit.Unix, path) {
		if err := makeRoomAt(path, "unix"); err != nil {
			return nil, err
		}
	}
	e, err := a.listen(unit.Unix, path)
	if err != nil {
		return nil, err
	}
	e.listener.(*net.UnixListener).SetUnlinkOnClose(false) // it may be another's by then
	// Every program of the host may speak.
	if err := os.Chmod(path, 0o666); err != nil {
		e.listener.Close()
		return nil, err
	}
	e.socket, _ = os.Lstat(path)
	return e, nil
}

// rawOf returns a connection as it is read without waiting.
func rawOf(conn net.Conn) (syscall.RawConn, error) { return conn.(syscall.Conn).SyscallConn() }

// processAt returns the process that has opened the other end of a unix socket.
func processAt(conn net.Conn) (p record.Peer) {
	raw, err := conn.(syscall.Conn).SyscallConn()
	if err != nil {
		return p
	}
	raw.Control(func(fd uintptr) {
		if u, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			p = record.Peer{PID: u.Pid, UID: u.Uid, GID: u.Gid}
		}
	})
	return p
}

// receive reads without waiting and tells whether there is an answer: bytes, the end, or an error.
func (c *streamConn) receive(fd uintptr) bool {
	if c.work == nil {
		c.lend()
	}
	for {
		start := len(c.begun)
		c.read, c.err = unix.Read(int(fd), c.work.buffer[start:start+readSize])
		if c.err == unix.EINTR {
			continue
		}
		if c.err == unix.EAGAIN {
			c.giveBack()
			return false
		}
		return true
	}
}

func (c *streamConn) run() {
	defer c.end()
	receive := c.receive
	for {
		c.setIdle()
		if err := c.raw.Read(receive); err != nil {
			if c.framer.Open() && c.endpoint.drainsUntil().IsZero() && errors.Is(err, os.ErrDeadlineExceeded) && c.settle() {
				continue
			}
			break // the endpoint is draining, or it was idle for too long
		}
		if c.err != nil || c.read == 0 || !c.takeMessages() {
			c.rest()
			return
		}
	}
	for deadline := c.endpoint.drainsUntil(); time.Now().Before(deadline); {
		more := false
		c.raw.Control(func(fd uintptr) { more = c.receive(fd) })
		if !more {
			if c.handOver() {
				return
			}
			break
		}
		if c.err != nil || c.read == 0 || !c.takeMessages() {
			break
		}
	}
	c.rest()
}
