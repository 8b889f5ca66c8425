package intake

import (
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/windows"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

const receiveBuffer = 8 << 20 // bytes asked of the system, so that a burst is not dropped

// datagramEndpoint reads datagrams, one at a time.
type datagramEndpoint struct {
	datagrams
	conn     *net.UDPConn
	text     string
	buffer   []byte
	done     chan struct{}
	draining sync.Once
}

func (a *Agent) openUDP(address string) (Endpoint, error) {
	conn, err := new(net.ListenConfig).ListenPacket(a.Ending, "udp", address)
	if err != nil {
		return nil, err
	}
	udp := conn.(*net.UDPConn)
	udp.SetReadBuffer(receiveBuffer) // less is enough for most
	return &datagramEndpoint{datagrams: datagrams{agent: a}, conn: udp, text: addressText(UDP, udp.LocalAddr().String()), buffer: make([]byte, wire.MaxMessage), done: make(chan struct{})}, nil
}

func (e *datagramEndpoint) Bound() string { return e.text }

func (e *datagramEndpoint) Run() {
	defer close(e.done)
	for {
		err := e.receive()
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, net.ErrClosed):
			return
		case err != nil: // the error of an earlier answer of ours, which we never send: nothing to do with the next datagram
			time.Sleep(time.Millisecond)
		}
	}
}

// receive reads one datagram and passes it on.
func (e *datagramEndpoint) receive() error {
	n, from, err := e.conn.ReadFromUDPAddrPort(e.buffer)
	cut := errors.Is(err, windows.WSAEMSGSIZE)
	if err != nil && !cut {
		return err
	}
	if cut {
		n = len(e.buffer)
	}
	peer := record.Peer{Addr: netip.AddrPortFrom(from.Addr().Unmap(), from.Port())}
	e.begin(1)
	e.take(e.buffer[:n], cut, &peer)
	e.passOn(e)
	return nil
}

func (e *datagramEndpoint) Drain(deadline time.Time) {
	e.draining.Do(func() {
		e.conn.SetReadDeadline(time.Now())
		<-e.done
		for time.Now().Before(deadline) {
			e.conn.SetReadDeadline(time.Now().Add(time.Millisecond))
			if e.receive() != nil {
				break
			}
		}
		e.Close()
	})
}

func (e *datagramEndpoint) Close() { e.conn.Close() }
