package outlet

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/url"
	"strconv"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/core/wire"
)

// syslogRoad leads to a receiver of syslog: by UDP (RFC 5426), by TCP with
// counted messages (RFC 6587) or by TLS (RFC 5425). The protocol has no answer:
// over a connection a batch counts as taken once the other side's system has
// acknowledged its bytes, over UDP once it is sent.
type syslogRoad struct {
	plainRoad
	to     plan.Remote
	config *tls.Config
	append func([]byte, *record.Record) []byte

	conn net.Conn
	gone chan struct{} // is closed when the other side has ended the connection

	message []byte
	stream  []byte // counted messages
	ends    []int  // of UDP: where each message ends in stream
}

const (
	dialTime   = 10 * time.Second
	streamTime = 30 * time.Second // for which the other side may take nothing
	outPause   = 2 * time.Millisecond
)

func newSyslogRoad(to plan.Remote) (*syslogRoad, error) {
	s := &syslogRoad{to: to, append: wire.AppendRFC5424}
	if to.Format == "rfc3164" {
		s.append = wire.AppendRFC3164Line
	}
	if to.Network != "tls" {
		return s, nil
	}
	config, err := client.TLS(to.TLS).Config()
	if err != nil {
		return nil, err
	}
	s.config = config
	s.config.ServerName, _, _ = net.SplitHostPort(to.Address)
	return s, nil
}

func (s *syslogRoad) begin(_ context.Context, here uint64) (uint64, error) { return here, nil }

func (s *syslogRoad) reset() { s.stream, s.ends = s.stream[:0], s.ends[:0] }

func (s *syslogRoad) add(_ uint64, r *record.Record) {
	s.message = s.append(s.message[:0], r)
	if n := len(s.message); n > 0 && s.message[n-1] == '\n' {
		s.message = s.message[:n-1]
	}
	if s.to.Network != "udp" {
		s.stream = append(strconv.AppendInt(s.stream, int64(len(s.message)), 10), ' ')
	}
	s.stream = append(s.stream, s.message...)
	s.ends = append(s.ends, len(s.stream))
}

func (s *syslogRoad) depth() int { return 1 }

func (s *syslogRoad) pack(b spool.Batch, refused bool) delivery {
	return func(ctx context.Context) (uint64, error) { return s.deliver(ctx, b, refused) }
}

func (s *syslogRoad) deliver(ctx context.Context, b spool.Batch, refused bool) (uint64, error) {
	if b.Records == 0 || refused {
		return b.Last, nil
	}
	err := s.connect(ctx)
	if err == nil {
		stop := context.AfterFunc(ctx, s.close)
		err = s.write()
		stop()
	}
	switch {
	case errors.Is(err, errLong):
		return 0, &badBatch{errors.New("a message is longer than a datagram can be")}
	case err != nil:
		s.close()
		return 0, &client.RetryLater{Err: &client.Unreachable{Address: GoesTo(plan.Outlet{Remote: s.to}), Err: client.WithoutAddress(err)}}
	}
	return b.Last, nil
}

// connect opens a connection where there is none, or the other side has ended it.
func (s *syslogRoad) connect(ctx context.Context) error {
	if s.conn != nil {
		select {
		case <-s.gone:
			s.close()
		default:
			return nil
		}
	}
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, strings.Replace(s.to.Network, "tls", "tcp", 1), s.to.Address)
	if err != nil {
		return err
	}
	if s.config != nil {
		encrypted := tls.Client(conn, s.config)
		if err := encrypted.HandshakeContext(ctx); err != nil {
			conn.Close()
			return err
		}
		conn = encrypted
	}
	s.conn, s.gone = conn, make(chan struct{})
	if s.to.Network != "udp" {
		go func(gone chan struct{}) {
			io.Copy(io.Discard, conn) // it says nothing; its end is what tells
			close(gone)
		}(s.gone)
	}
	return nil
}

func (s *syslogRoad) write() error {
	if s.to.Network == "udp" {
		start := 0
		for _, end := range s.ends {
			if _, err := s.conn.Write(s.stream[start:end]); err != nil {
				return err
			}
			start = end
		}
		return nil
	}
	for rest := s.stream; len(rest) > 0; {
		n := min(len(rest), 256<<10)
		s.conn.SetWriteDeadline(time.Now().Add(streamTime))
		if _, err := s.conn.Write(rest[:n]); err != nil {
			return err
		}
		rest = rest[n:]
	}
	return s.awaitAcknowledged()
}

// awaitAcknowledged waits until the other side's system has acknowledged all
// bytes, and looks whether the connection is still there then.
func (s *syslogRoad) awaitAcknowledged() error {
	last, moved := -1, time.Now()
	for {
		left, err := unacknowledged(s.conn)
		if err != nil {
			return err
		}
		if left != last {
			last, moved = left, time.Now()
		}
		select {
		case <-s.gone:
			return errors.New("the other side has ended the connection")
		default:
		}
		if left == 0 {
			return nil
		}
		if time.Since(moved) > streamTime {
			return errors.New("the other side takes nothing")
		}
		time.Sleep(outPause)
	}
}

func (s *syslogRoad) close() {
	if s.conn != nil {
		s.conn.Close()
	}
}

// Reach looks whether the other side of an outlet can be reached, and sends nothing.
// UDP does not tell.
func Reach(ctx context.Context, to plan.Remote) error {
	if u, err := url.Parse(to.Address); to.Network == "" && err == nil {
		to.Network, to.Address = "tcp", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "80"))
		if u.Scheme == "https" {
			to.Network, to.Address = "tls", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "443"))
		}
	}
	road, err := newSyslogRoad(to)
	if err == nil {
		err = road.connect(ctx)
		road.close()
	}
	return err
}
