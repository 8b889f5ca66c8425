package intake

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/decode"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
	"oakbarrel/unit"
)

// readSize is how much one call reads from a connection, in bytes.
const readSize = 64 << 10

// streamEndpoint takes connections and reads messages from them: TCP, with TLS
// or without, or a unix stream socket.
type streamEndpoint struct {
	Common
	agent    *Agent
	listener deadlineListener
	text     string
	socket   fs.FileInfo  // of a unix socket, to remove what is ours only
	tls      *tlsSettings // nil without TLS

	mu       sync.Mutex
	conns    map[*streamConn]struct{}
	deadline time.Time // once it is draining: when that must be over
	readers  sync.WaitGroup
	draining sync.Once
	done     chan struct{} // closed when no connection is taken any more
	told     time.Time     // when it was last logged that a connection is turned away
}

type deadlineListener interface {
	net.Listener
	SetDeadline(time.Time) error
}

// acceptTime is how long a draining endpoint goes on taking the connections
// that were made before.
const acceptTime = 50 * time.Millisecond

func (a *Agent) openTCP(address string) (Endpoint, error) {
	e, err := a.listen(unit.TCP, address)
	if err != nil {
		return nil, err
	}
	return e, nil
}

func (a *Agent) openTLS(address string, s *plan.Syslog) (Endpoint, error) {
	settings, err := newTLSSettings(s)
	if err != nil {
		return nil, err
	}
	e, err := a.listen(unit.TCP, address)
	if err != nil {
		return nil, err
	}
	e.tls, e.text = settings, addressText(TLS, e.listener.Addr().String())
	return e, nil
}

func (a *Agent) listen(network unit.Network, address string) (*streamEndpoint, error) {
	l, err := a.Unit.Listen(a.Ending, network, address)
	if err != nil {
		return nil, err
	}
	return &streamEndpoint{agent: a, listener: l.(deadlineListener), text: addressText(Network(network), l.Addr().String()), conns: map[*streamConn]struct{}{}, done: make(chan struct{})}, nil
}

func (e *streamEndpoint) Bound() string { return e.text }

// Tell implements [Endpoint].
func (e *streamEndpoint) Tell(s *client.IntakeStatus) { s.Connections += e.connections() }

func (e *streamEndpoint) connections() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.conns)
}

func (e *streamEndpoint) Run() {
	defer close(e.done)
	e.resume()
	for {
		conn, err := e.listener.Accept()
		if errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, net.ErrClosed) {
			return // draining
		}
		if err != nil {
			e.tell("a connection cannot be taken", err)
			time.Sleep(100 * time.Millisecond) // most likely too many open files
			continue
		}
		e.accept(conn)
	}
}

// tell logs what is wrong with a connection, at most once in ten seconds, so
// that nobody can fill the log from outside.
func (e *streamEndpoint) tell(what string, err error) {
	e.mu.Lock()
	quiet := time.Since(e.told) < 10*time.Second
	if !quiet {
		e.told = time.Now()
	}
	e.mu.Unlock()
	if !quiet {
		e.agent.Log.Warn(what, "address", e.text, "why", err)
	}
}

// accept takes a new connection, if the plan lets it in.
func (e *streamEndpoint) accept(conn net.Conn) {
	c := &streamConn{endpoint: e}
	s := e.Owner().syslog.Load()
	c.framer.Largest, c.framer.Frames = s.Largest, s.Frames
	e.take(c, conn)
}

// take reads from a connection, if the plan lets it in.
func (e *streamEndpoint) take(c *streamConn, conn net.Conn) {
	c.conn, c.peer = conn, peerOf(conn)
	in := e.Owner()
	s := in.syslog.Load()
	var why error
	switch {
	case c.peer.Addr.IsValid() && !allows(s, c.peer.Addr.Addr()):
		why = fmt.Errorf("%s is not among the networks that are allowed", c.peer.Addr.Addr())
	case e.connections() >= s.Connections:
		why = fmt.Errorf("%d connections are open already", s.Connections)
	case e.tls == nil:
		c.raw, why = rawOf(conn)
	}
	if why == nil {
		why = e.agent.places.occupy()
	}
	if why != nil {
		in.turnedAway.Add(1)
		e.tell("a connection is turned away", why)
		conn.Close()
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.conns[c] = struct{}{}
	switch {
	case e.tls != nil:
		c.conn = tls.Server(conn, e.tls.config(s))
		e.readers.Go(c.guarded(c.runTLS))
	case c.raw == nil:
		e.readers.Go(c.guarded(c.runPlain))
	default:
		e.readers.Go(c.guarded(c.run))
	}
}

// guarded runs a connection. One that fails is closed; what it had read of
// messages that were not passed on is counted.
func (c *streamConn) guarded(run func()) func() {
	return func() {
		part := guard.Intake(c.endpoint.Owner().Name())
		if c.endpoint.agent.Guard.Run(part, run) {
			in, n := c.endpoint.Owner(), c.flying
			in.read.Add(n)
			in.unreadable.Add(n)
			c.endpoint.agent.Guard.Lose(part, n)
		}
	}
}

// peerOf returns who is at the other end: an address, or the process that has
// opened a unix socket.
func peerOf(conn net.Conn) (p record.Peer) {
	if at, ok := conn.RemoteAddr().(*net.TCPAddr); ok {
		p.Addr = netip.AddrPortFrom(at.AddrPort().Addr().Unmap(), uint16(at.Port))
		return p
	}
	return processAt(conn)
}

func (e *streamEndpoint) Drain(deadline time.Time) {
	e.draining.Do(func() {
		e.listener.SetDeadline(time.Now().Add(acceptTime))
		<-e.done
		e.Close()
		e.mu.Lock()
		e.deadline = deadline
		for c := range e.conns {
			c.conn.SetReadDeadline(time.Now()) // ends the reader's wait
		}
		e.mu.Unlock()
	})
	e.readers.Wait()
	e.agent.saveHanded()
}

// drainsUntil returns when the draining must be over, the zero time where the endpoint is not draining.
func (e *streamEndpoint) drainsUntil() time.Time {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.deadline
}

func (e *streamEndpoint) Close() {
	e.listener.Close()
	if e.agent.letGo(e.text) {
		removeOwn(e.text, e.socket)
	}
}

// streamConn is one connection. It holds a buffer only while there is
// something to read, so that idle connections cost little.
type streamConn struct {
	endpoint *streamEndpoint
	conn     net.Conn
	raw      syscall.RawConn // nil with TLS, and where it is not read in this way
	peer     record.Peer
	host     []byte // the peer's address, where it stands in for the claimed host
	framer   wire.Framer
	begun    []byte // the start of a message whose end has not come yet
	lent     int64  // bytes of the agent's memory, for begun
	work     *streamWork
	timed    bool  // a deadline for reading is set
	flying   int64 // messages that are being taken apart
	read     int   // bytes of the last call
	err      error // of the last call
}

// streamWork is what reading takes, lent to one connection at a time.
type streamWork struct {
	buffer  []byte
	parser  wire.Parser
	decoder *decode.Decoder // nil until it is needed
	batch   record.Batch
	routing route.Routing
}

var streamWorks = sync.Pool{New: func() any { return new(streamWork) }}

// settleWorks have no buffer: many connections may settle a message at a time.
var settleWorks = sync.Pool{New: func() any { return new(streamWork) }}

// lend gives the connection a buffer that holds what it may have to keep, and one read more.
func (c *streamConn) lend() {
	c.work = streamWorks.Get().(*streamWork)
	if need := readSize + c.framer.Largest + 16; len(c.work.buffer) < need {
		c.work.buffer = make([]byte, need)
	}
}

func (c *streamConn) giveBack() {
	streamWorks.Put(c.work)
	c.work = nil
}

// openTime is how long a message that is whole waits for lines that belong to it.
const openTime = 30 * time.Millisecond

// setIdle sets when the connection has been idle for too long, or for a message that may
// go on.
func (c *streamConn) setIdle() {
	wait := c.endpoint.Owner().syslog.Load().Idle
	if c.framer.Open() {
		wait = openTime
	}
	if wait == 0 && !c.timed {
		return
	}
	c.endpoint.mu.Lock()
	defer c.endpoint.mu.Unlock()
	if !c.endpoint.deadline.IsZero() { // the deadline is that of the draining
		return
	}
	if c.timed = wait > 0; c.timed {
		c.conn.SetReadDeadline(time.Now().Add(wait))
	} else {
		c.conn.SetReadDeadline(time.Time{})
	}
}

// settle passes on a message behind which nothing has come, and tells whether it was taken.
func (c *streamConn) settle() bool {
	frame := c.framer.Settle(c.begun)
	w := settleWorks.Get().(*streamWork)
	c.work = w
	w.batch.Reset()
	emptyDecoder(w.decoder)
	c.flying++
	c.add(c.endpoint.Owner().syslog.Load(), frame.Message, frame.Cut, record.StampOf(time.Now()))
	c.flying = 0
	taken := len(w.batch.Records) == 0 || c.endpoint.agent.pass(&w.batch, &w.routing, c.endpoint, true)
	c.work = nil
	settleWorks.Put(w)
	return c.keep(c.begun[frame.Size:]) && taken
}

func (c *streamConn) end() {
	c.unlend()
	if c.work != nil {
		c.giveBack()
	}
	c.conn.Close()
	c.endpoint.agent.places.free()
	c.endpoint.mu.Lock()
	delete(c.endpoint.conns, c)
	c.endpoint.mu.Unlock()
}

// takeMessages passes the whole messages of what was read on, and keeps the rest. It
// tells whether they were taken.
func (c *streamConn) takeMessages() bool {
	w := c.work
	copy(w.buffer, c.begun)
	b := w.buffer[:len(c.begun)+c.read]
	now := record.StampOf(time.Now())
	s := c.endpoint.Owner().syslog.Load()
	w.batch.Reset()
	emptyDecoder(w.decoder)
	for {
		f := c.framer.Next(b)
		b = b[f.Size:]
		if f.Message == nil {
			break
		}
		c.flying++
		c.add(s, f.Message, f.Cut, now)
	}
	kept := c.keep(b)
	c.flying = 0
	taken := len(w.batch.Records) == 0 || c.endpoint.agent.pass(&w.batch, &w.routing, c.endpoint, true)
	c.giveBack()
	return taken && kept
}

// keep keeps the beginning of a message until the rest of it comes, and tells
// whether there is room for it. Where there is none the connection ends, and what
// came of the message is taken as it is.
func (c *streamConn) keep(b []byte) bool {
	memory := c.endpoint.agent.Memory
	if more := int64(len(b)) - c.lent; more > 0 && len(b) > freeKept {
		if !memory.wait(c.endpoint.agent.Ending, more) {
			c.endpoint.Owner().turnedAway.Add(1)
			c.endpoint.tell("a connection is closed", errNoRoom)
			c.begun = append(c.begun[:0], b[:min(len(b), freeKept)]...)
			return false
		}
		c.lent += more
	} else if len(b) <= freeKept && c.lent > 0 {
		c.begun = nil
		c.unlend()
	}
	c.begun = append(c.begun[:0], b...)
	return true
}

// freeKept is how much of a message a connection keeps without being counted.
const freeKept = 1 << 10

func (c *streamConn) unlend() {
	c.endpoint.agent.Memory.leave(c.lent)
	c.lent = 0
}

func (c *streamConn) add(s *plan.Syslog, message []byte, cut bool, now record.Stamp) {
	if len(message) == 0 || c.endpoint.Owner().limits(&c.peer, now) {
		return
	}
	r := c.work.batch.Next()
	r.Received = now
	r.Raw = message
	configureParser(&c.work.parser, s, !c.peer.Addr.IsValid())
	c.work.parser.Parse(r, message)
	r.Cut = cut
	c.work.decoder = decodeBody(c.work.decoder, s, r)
	if c.peer == (record.Peer{}) {
		return
	}
	r.Peer = &c.peer
	if r.Host == nil || s.PeerHost {
		c.host = peerHost(s.PeerHost, r, c.host[:0])
	}
}

// rest passes on what is left when the connection has ended: it is a message.
func (c *streamConn) rest() {
	message := c.framer.Rest(c.begun)
	if len(message) == 0 {
		return
	}
	if c.work == nil {
		c.lend()
	}
	c.work.batch.Reset()
	c.add(c.endpoint.Owner().syslog.Load(), message, false, record.StampOf(time.Now()))
	c.endpoint.agent.pass(&c.work.batch, &c.work.routing, c.endpoint, true)
}
