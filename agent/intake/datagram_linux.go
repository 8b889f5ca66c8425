package intake

import (
	"encoding/binary"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
	"oakbarrel/unit"
)

const (
	datagramsARead = 64
	receiveBuffer  = 8 << 20                // bytes asked of the kernel, so that a burst is not dropped
	napFrom        = 4                      // datagrams with one call that tell of a flood
	napTime        = 100 * time.Microsecond // the kernel holds what comes meanwhile
	datagramStride = wire.MaxMessage + 5*64 // bytes from one to the next: an odd number of cache lines, so that their beginnings do not share one set
	controlSize    = 64                     // bytes of control messages a datagram: its sender's credentials, the count of drops
)

// datagramEndpoint reads datagrams, many with one call.
type datagramEndpoint struct {
	datagrams
	*datagramSocket
	text   string
	socket fs.FileInfo // of a unix socket, to remove what is ours only

	headers []mmsghdr
	iovecs  []unix.Iovec
	names   []unix.RawSockaddrInet6
	control []byte
	buffer  []byte
	peers   []record.Peer
	drops   uint32 // the kernel's count of drops, as it told last

	done     chan struct{}
	draining sync.Once
	naps     bool          // a nap lets datagrams gather, so that one call reads many
	received int           // by the last call
	errno    syscall.Errno // of the last call
}

type mmsghdr struct {
	hdr unix.Msghdr
	len uint32
	_   [4]byte
}

func (a *Agent) openUDP(address string) (Endpoint, error) {
	if conn, _ := a.keptDatagrams(unit.UDP, address); conn != nil {
		return a.udpEndpoint(conn.(*net.UDPConn))
	}
	config := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			enlarge(int(fd))
			unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RXQ_OVFL, 1)
		})
	}}
	conn, err := config.ListenPacket(a.Ending, "udp", address)
	if err != nil {
		return nil, err
	}
	a.Unit.Keep(unit.UDP, conn.LocalAddr().String(), conn.(*net.UDPConn))
	return a.udpEndpoint(conn.(*net.UDPConn))
}

func (a *Agent) udpEndpoint(conn *net.UDPConn) (Endpoint, error) {
	at := conn.LocalAddr().String()
	e, err := a.newDatagramEndpoint(conn)
	if err != nil {
		return nil, err
	}
	e.text, e.naps = addressText(UDP, at), true
	e.drops = a.keptDrops()[e.text]
	return e, nil
}

// enlarge asks for a large receive buffer; as root it may exceed the system's limit.
func enlarge(fd int) {
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer) != nil {
		unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, receiveBuffer)
	}
}

func (a *Agent) openUnixgram(path string) (Endpoint, error) {
	if conn, _ := a.keptDatagrams(unit.Unixgram, path); conn != nil {
		e, err := a.unixgramEndpoint(conn.(*net.UnixConn), path)
		if err == nil {
			e.socket, _ = os.Lstat(path)
		}
		return e, err
	}
	if err := makeRoomAt(path, "unixgram"); err != nil {
		return nil, err
	}
	conn, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		return nil, err
	}
	// Every program of the host may speak.
	if err := os.Chmod(path, 0o666); err != nil {
		conn.Close()
		return nil, err
	}
	a.Unit.Keep(unit.Unixgram, path, conn)
	e, err := a.unixgramEndpoint(conn, path)
	if err == nil {
		e.socket, _ = os.Lstat(path)
	}
	return e, err
}

// unixgramEndpoint reads from a socket that is bound already.
func (a *Agent) unixgramEndpoint(conn *net.UnixConn, path string) (*datagramEndpoint, error) {
	e, err := a.newDatagramEndpoint(conn)
	if err != nil {
		return nil, err
	}
	enlarge(e.fd)
	unix.SetsockoptInt(e.fd, unix.SOL_SOCKET, unix.SO_PASSCRED, 1)
	for i := range e.headers {
		e.headers[i].hdr.Name = nil // credentials tell who speaks
	}
	e.text, e.local = addressText(Unixgram, path), true
	return e, nil
}

func (a *Agent) newDatagramEndpoint(conn boundConn) (*datagramEndpoint, error) {
	socket, err := detach(conn)
	if err != nil {
		return nil, err
	}
	const n = datagramsARead
	e := &datagramEndpoint{
		datagrams: datagrams{agent: a}, datagramSocket: socket, headers: make([]mmsghdr, n), iovecs: make([]unix.Iovec, n), names: make([]unix.RawSockaddrInet6, n),
		control: make([]byte, n*controlSize), buffer: make([]byte, n*datagramStride), peers: make([]record.Peer, n),
		done: make(chan struct{}),
	}
	for i := range e.headers {
		e.iovecs[i].Base = &e.buffer[i*datagramStride]
		e.iovecs[i].SetLen(wire.MaxMessage)
		h := &e.headers[i].hdr
		h.Iov = &e.iovecs[i]
		h.SetIovlen(1)
		h.Name = (*byte)(unsafe.Pointer(&e.names[i]))
		h.Control = &e.control[i*controlSize]
	}
	return e, nil
}

func (e *datagramEndpoint) Bound() string { return e.text }

// receive reads datagrams without waiting.
func (e *datagramEndpoint) receive() {
	for i := range e.headers {
		e.headers[i].hdr.Namelen = unix.SizeofSockaddrInet6
		e.headers[i].hdr.SetControllen(controlSize)
	}
	for {
		n, _, errno := syscall.Syscall6(unix.SYS_RECVMMSG, uintptr(e.fd), uintptr(unsafe.Pointer(&e.headers[0])), uintptr(len(e.headers)), unix.MSG_DONTWAIT, 0, 0)
		if errno == syscall.EINTR {
			continue
		}
		e.received, e.errno = int(n), errno
		if errno != 0 {
			e.received = 0
		}
		return
	}
}

func (e *datagramEndpoint) Run() {
	defer close(e.done)
	for !e.ended.Load() {
		e.receive()
		switch {
		case e.errno == syscall.EAGAIN:
			e.wait()
		case e.errno != 0: // the error of an earlier answer of ours, which we never send: nothing to do with the next datagram
			time.Sleep(time.Millisecond)
		default:
			e.passReceived()
			if e.naps && e.received >= napFrom && e.received < datagramsARead {
				e.nap(napTime)
			}
		}
	}
}

// passReceived makes records of what was received and passes them on.
func (e *datagramEndpoint) passReceived() {
	e.begin(e.received)
	for i := range e.received {
		h := &e.headers[i]
		e.readControl(i)
		e.take(e.buffer[i*datagramStride:][:h.len], h.hdr.Flags&unix.MSG_TRUNC != 0, &e.peers[i])
	}
	e.passOn(e)
}

// readControl learns who sent datagram i, and how many the kernel has dropped.
func (e *datagramEndpoint) readControl(i int) {
	e.peers[i] = record.Peer{Addr: e.sender(i)}
	h := &e.headers[i].hdr
	control := e.control[i*controlSize:][:h.Controllen]
	for len(control) >= unix.SizeofCmsghdr {
		c := (*unix.Cmsghdr)(unsafe.Pointer(&control[0]))
		if c.Len < unix.SizeofCmsghdr || int(c.Len) > len(control) {
			return
		}
		data := control[unix.CmsgLen(0):c.Len]
		if c.Level == unix.SOL_SOCKET && c.Type == unix.SCM_CREDENTIALS && len(data) >= unix.SizeofUcred {
			u := (*unix.Ucred)(unsafe.Pointer(&data[0]))
			e.peers[i] = record.Peer{PID: u.Pid, UID: u.Uid, GID: u.Gid}
		}
		if c.Level == unix.SOL_SOCKET && c.Type == unix.SO_RXQ_OVFL && len(data) >= 4 {
			drops := *(*uint32)(unsafe.Pointer(&data[0]))
			if drops != e.drops {
				e.Owner().missed.Add(int64(drops - e.drops))
				e.drops = drops
			}
		}
		control = control[min(len(control), unix.CmsgSpace(int(c.Len)-unix.CmsgLen(0))):]
	}
}

// sender returns the address that datagram i came from; it is not valid for a unix socket.
func (e *datagramEndpoint) sender(i int) netip.AddrPort {
	sa := &e.names[i]
	port := func(p *uint16) uint16 { return binary.BigEndian.Uint16((*[2]byte)(unsafe.Pointer(p))[:]) }
	switch {
	case e.headers[i].hdr.Namelen == unix.SizeofSockaddrInet4 && sa.Family == unix.AF_INET:
		v4 := (*unix.RawSockaddrInet4)(unsafe.Pointer(sa))
		return netip.AddrPortFrom(netip.AddrFrom4(v4.Addr), port(&v4.Port))
	case e.headers[i].hdr.Namelen == unix.SizeofSockaddrInet6 && sa.Family == unix.AF_INET6:
		return netip.AddrPortFrom(netip.AddrFrom16(sa.Addr).Unmap(), port(&sa.Port))
	}
	return netip.AddrPort{}
}

func (e *datagramEndpoint) Drain(deadline time.Time) {
	e.draining.Do(func() {
		e.end()
		<-e.done
		for time.Now().Before(deadline) {
			if e.receive(); e.errno != 0 {
				break
			}
			e.passReceived()
		}
		e.Close()
	})
}

func (e *datagramEndpoint) Close() {
	e.datagramSocket.close()
	if e.agent.letGo(e.text) {
		removeOwn(e.text, e.socket)
	} else if !e.local {
		e.agent.keepDrops(e.text, e.drops)
	}
}
