package agent

import (
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

// readSize is how much one call reads from a connection, in bytes.
const readSize = 64 << 10

// streamEndpoint takes TCP connections and reads messages from them.
type streamEndpoint struct {
	owned
	agent    *Agent
	listener *net.TCPListener
	parser   wire.Parser

	mu       sync.Mutex
	conns    map[*streamConn]struct{}
	deadline time.Time // once it is draining: when that must be over
	readers  sync.WaitGroup
	draining sync.Once
	done     chan struct{} // closed when no connection is taken any more
}

// acceptTime is how long a draining endpoint goes on taking the connections
// that were made before.
const acceptTime = 50 * time.Millisecond

func (a *Agent) openTCP(address string) (endpoint, error) {
	l, err := (&net.ListenConfig{}).Listen(a.ending, "tcp", address)
	if err != nil {
		return nil, err
	}
	return &streamEndpoint{agent: a, listener: l.(*net.TCPListener), parser: wire.Parser{Default: record.DefaultPriority}, conns: map[*streamConn]struct{}{}, done: make(chan struct{})}, nil
}

func (e *streamEndpoint) bound() string { return addressText("tcp", e.listener.Addr().String()) }

func (e *streamEndpoint) connections() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.conns)
}

func (e *streamEndpoint) run() {
	defer close(e.done)
	full := false
	for {
		conn, err := e.listener.AcceptTCP()
		if errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, net.ErrClosed) {
			return // draining
		}
		if err != nil {
			if !full {
				e.agent.log.Warn("a connection cannot be taken", "address", e.bound(), "why", err)
			}
			full = true
			time.Sleep(100 * time.Millisecond) // most likely too many open files
			continue
		}
		full = false
		e.accept(conn)
	}
}

func (e *streamEndpoint) accept(conn *net.TCPConn) {
	raw, err := conn.SyscallConn()
	if err != nil {
		conn.Close()
		return
	}
	c := &streamConn{endpoint: e, conn: conn, raw: raw}
	peer := conn.RemoteAddr().(*net.TCPAddr).AddrPort()
	c.peer.Addr = netip.AddrPortFrom(peer.Addr().Unmap(), peer.Port())
	e.mu.Lock()
	defer e.mu.Unlock()
	e.conns[c] = struct{}{}
	e.readers.Go(c.run)
}

func (e *streamEndpoint) drain(deadline time.Time) {
	e.draining.Do(func() {
		e.listener.SetDeadline(time.Now().Add(acceptTime))
		<-e.done
		e.listener.Close()
		e.mu.Lock()
		e.deadline = deadline
		for c := range e.conns {
			c.conn.SetReadDeadline(time.Now()) // ends the reader's wait
		}
		e.mu.Unlock()
	})
	e.readers.Wait()
}

func (e *streamEndpoint) drainsUntil() time.Time {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.deadline
}

func (e *streamEndpoint) close() { e.listener.Close() }

// streamConn is one connection. It holds a buffer only while there is
// something to read, so that idle connections cost little.
type streamConn struct {
	endpoint *streamEndpoint
	conn     *net.TCPConn
	raw      syscall.RawConn
	peer     record.Peer
	framer   wire.Framer
	begun    []byte // the start of a message whose end has not come yet
	work     *streamWork
	read     int   // bytes of the last call
	err      error // of the last call
}

// streamWork is what reading takes, lent to one connection at a time.
type streamWork struct {
	buffer []byte
	batch  record.Batch
	marks  route.Marks
}

var streamWorks = sync.Pool{New: func() any {
	return &streamWork{buffer: make([]byte, readSize+wire.MaxMessage+16)}
}}

// receive reads without waiting and tells whether there is an answer: bytes, the end, or an error.
func (c *streamConn) receive(fd uintptr) bool {
	if c.work == nil {
		c.work = streamWorks.Get().(*streamWork)
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

func (c *streamConn) giveBack() {
	streamWorks.Put(c.work)
	c.work = nil
}

func (c *streamConn) run() {
	defer c.end()
	receive := c.receive
	for {
		if err := c.raw.Read(receive); err != nil {
			break // the endpoint is draining
		}
		if c.err != nil || c.read == 0 || !c.take() {
			c.rest()
			return
		}
	}
	for deadline := c.endpoint.drainsUntil(); time.Now().Before(deadline); {
		more := false
		c.raw.Control(func(fd uintptr) { more = c.receive(fd) })
		if !more || c.err != nil || c.read == 0 || !c.take() {
			break
		}
	}
	c.rest()
}

func (c *streamConn) end() {
	if c.work != nil {
		c.giveBack()
	}
	c.conn.Close()
	c.endpoint.mu.Lock()
	delete(c.endpoint.conns, c)
	c.endpoint.mu.Unlock()
}

// take passes the whole messages of what was read on, and keeps the rest. It
// tells whether they were taken.
func (c *streamConn) take() bool {
	w := c.work
	copy(w.buffer, c.begun)
	b := w.buffer[:len(c.begun)+c.read]
	now := record.StampOf(time.Now())
	w.batch.Reset()
	for {
		f := c.framer.Next(b)
		b = b[f.Size:]
		if f.Message == nil {
			break
		}
		c.add(f.Message, f.Cut, now)
	}
	c.begun = append(c.begun[:0], b...)
	taken := len(w.batch.Records) == 0 || c.endpoint.agent.pass(&w.batch, &w.marks, c.endpoint, true)
	c.giveBack()
	return taken
}

func (c *streamConn) add(message []byte, cut bool, now record.Stamp) {
	if len(message) == 0 {
		return
	}
	r := c.work.batch.Next()
	r.Received = now
	r.Raw = message
	c.endpoint.parser.Parse(r, message)
	r.Cut = cut
	r.Peer = &c.peer
}

// rest passes on what is left when the connection has ended: it is a message.
func (c *streamConn) rest() {
	message := c.framer.Rest(c.begun)
	if len(message) == 0 {
		return
	}
	if c.work == nil {
		c.work = streamWorks.Get().(*streamWork)
	}
	c.work.batch.Reset()
	c.add(message, false, record.StampOf(time.Now()))
	c.endpoint.agent.pass(&c.work.batch, &c.work.marks, c.endpoint, true)
}
