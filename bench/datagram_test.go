package bench

import (
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"
)

const (
	datagrams = 600_000 // in a burst
	together  = 64      // with one call
)

// flood sends messages over conn as fast as it can, many with one call.
func flood(b *testing.B, conn net.PacketConn, messages [][]byte) {
	batch := ipv4.NewPacketConn(conn)
	buffers := make([]ipv4.Message, together)
	for sent := 0; sent < len(messages); {
		n := min(together, len(messages)-sent)
		for i := range n {
			buffers[i].Buffers = [][]byte{messages[sent+i]}
		}
		written, err := batch.WriteBatch(buffers[:n], 0)
		if err != nil {
			b.Fatal(err)
		}
		sent += written
	}
}

// counter is the bare receiver: it takes datagrams, many with one call, and counts them.
type counter struct{ n atomic.Int64 }

func (c *counter) run(conn net.PacketConn) {
	batch := ipv4.NewPacketConn(conn)
	buffers := make([]ipv4.Message, together)
	for i := range buffers {
		buffers[i].Buffers = [][]byte{make([]byte, 2048)}
	}
	for {
		n, err := batch.ReadBatch(buffers, 0)
		if err != nil {
			return
		}
		c.n.Add(int64(n))
	}
}

// until waits for count to reach what was sent, or to stand still, and tells
// when it did and what share was lost.
func until(sent int64, count func() int64) (time.Time, float64) {
	last, at := int64(-1), time.Now()
	for {
		n := count()
		if n >= sent {
			return time.Now(), 0
		}
		if n != last {
			last, at = n, time.Now()
		}
		if time.Since(at) > time.Second {
			return at, 1 - float64(n)/float64(sent)
		}
		time.Sleep(5 * time.Millisecond) // to ask costs the agent some time too
	}
}

// BenchmarkUDP floods the agent, which parses, routes and writes into a file,
// with datagrams as fast as one sender can, against a receiver that counts them.
func BenchmarkUDP(b *testing.B) {
	messages := lines(corpus(datagrams))
	a := startAgent(b, b.TempDir(), "priorities.yaml")
	bare := new(counter)
	l, err := net.ListenPacket("udp4", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	raw, _ := l.(*net.UDPConn).SyscallConn()
	raw.Control(func(fd uintptr) { unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 8<<20) })
	go bare.run(l)
	var lost [2]float64
	burst := func(side int, address string, count func() int64) time.Duration {
		conn, err := net.Dial("udp4", address)
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		before, start := count(), time.Now()
		flood(b, conn.(net.PacketConn), messages)
		last, share := until(before+datagrams, count)
		lost[side] = max(lost[side], share)
		return last.Sub(start)
	}
	for b.Loop() {
		bareTime, ours, ratio := pair(5, func() time.Duration {
			return burst(0, l.LocalAddr().String(), bare.n.Load)
		}, func() time.Duration {
			return burst(1, a.udp, func() int64 { return a.status(b).Rules.In })
		})
		report(b, datagrams, bareTime, ours, ratio)
		b.ReportMetric(100/ratio, "%-of-bare")
		b.ReportMetric(100*lost[0], "%-bare-lost")
		b.ReportMetric(100*lost[1], "%-lost")
	}
}

// BenchmarkUnixDatagram does the same over a unix socket, where the kernel holds
// the sender back, so that nothing is lost.
func BenchmarkUnixDatagram(b *testing.B) {
	messages := lines(corpus(datagrams))[:datagrams/2]
	dir := b.TempDir()
	a := startAgent(b, dir, "priorities.yaml")
	path := filepath.Join(dir, "bare.sock")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	bare := new(counter)
	go func() {
		buffer := make([]byte, 2048)
		for {
			if _, err := l.Read(buffer); err != nil {
				return
			}
			bare.n.Add(1)
		}
	}()
	burst := func(path string, count func() int64) time.Duration {
		conn, err := net.Dial("unixgram", path)
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		before := count()
		start := time.Now()
		for _, m := range messages {
			if _, err := conn.Write(m); err != nil {
				b.Fatal(err)
			}
		}
		for count() < before+int64(len(messages)) {
			time.Sleep(10 * time.Millisecond) // to ask costs the agent some time too
		}
		return time.Since(start)
	}
	for b.Loop() {
		bareTime, ours, ratio := pair(5, func() time.Duration { return burst(path, bare.n.Load) }, func() time.Duration {
			return burst(a.socket, func() int64 { return a.status(b).Rules.In })
		})
		report(b, len(messages), bareTime, ours, ratio)
		b.ReportMetric(100/ratio, "%-of-bare")
	}
}
