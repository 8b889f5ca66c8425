// Package bench measures our hot paths against bare loops that do the same
// input and output and nothing else, in one run, so that the figures are
// ratios and hold on any machine. See docs/benchmarks.md.
package bench

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// corpus returns n RFC 5424 messages of Lantern Bay with an end mark each, 185
// bytes on average, the same for the same n.
func corpus(n int) []byte {
	r := rand.New(rand.NewPCG(1, 32473))
	hosts := []string{"reef-02", "kelp-01", "tide-gw", "probe-gw-3"}
	apps := []string{"pumpd", "ticketd", "salinity-probe", "door-badge", "valve-ctl", "tide-link"}
	at := time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)
	var b []byte
	for i := range n {
		at = at.Add(time.Duration(r.ExpFloat64() * 15e6))
		severity := []int{6, 6, 6, 6, 6, 7, 5, 5, 4, 3}[r.IntN(10)]
		b = fmt.Appendf(b, "<%d>1 ", r.IntN(24)*8+severity)
		b = at.AppendFormat(b, "2006-01-02T15:04:05.000000Z ")
		b = fmt.Appendf(b, "%s %s %d M%d - pump P%02d in loop %c at %d rpm, flow %d.%d l/min, winding %d.%d C, vibration 0.%02d mm, run %d s, ref %08x, seq %08d\n",
			hosts[r.IntN(len(hosts))], apps[r.IntN(len(apps))], 300+r.IntN(9000), r.IntN(9), r.IntN(24), 'a'+r.IntN(6), 1000+r.IntN(900), r.IntN(40), r.IntN(10),
			30+r.IntN(30), r.IntN(10), r.IntN(100), r.IntN(1_000_000), r.Uint32(), i)
	}
	return b
}

// lines cuts a corpus into messages without their end marks.
func lines(b []byte) (all [][]byte) {
	for len(b) > 0 {
		i := slices.Index(b, '\n')
		all = append(all, b[:i:i])
		b = b[i+1:]
	}
	return all
}

// touch is the least that reading a message can cost: it looks at each byte
// until the header's six spaces have gone by.
func touch(message []byte) (at int) {
	left := 6
	for i, c := range message {
		if c == ' ' {
			if left--; left == 0 {
				return i
			}
		}
	}
	return -1
}

// copyToFile takes one TCP connection and writes what comes into a file, 64
// KiB at a time. It returns when the sender has closed.
func copyToFile(l net.Listener, path string) error {
	conn, err := l.Accept()
	if err != nil {
		return err
	}
	defer conn.Close()
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	// The wrappers keep io from handing the copy to the kernel.
	_, err = io.CopyBuffer(struct{ io.Writer }{f}, struct{ io.Reader }{conn}, make([]byte, 64<<10))
	return err
}

// sendAll sends b in writes of 64 KiB and waits until the receiver has closed.
func sendAll(address string, b []byte) error {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	defer conn.Close()
	for len(b) > 0 {
		n, err := conn.Write(b[:min(len(b), 64<<10)])
		if err != nil {
			return err
		}
		b = b[n:]
	}
	if err := conn.(*net.TCPConn).CloseWrite(); err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, conn)
	return err
}

// pair runs two ways in turn and returns the median time of each and the
// median of their ratio, ours to the bare one.
func pair(rounds int, bare, ours func() time.Duration) (bareTime, ourTime time.Duration, ratio float64) {
	var bares, all []time.Duration
	var ratios []float64
	for range rounds {
		b, o := bare(), ours()
		bares, all = append(bares, b), append(all, o)
		ratios = append(ratios, float64(o)/float64(b))
	}
	slices.Sort(bares)
	slices.Sort(all)
	slices.Sort(ratios)
	return bares[rounds/2], all[rounds/2], ratios[rounds/2]
}

// scan counts a text in a file, which is most likely in the system's memory,
// with as many readers as there are processors.
func scan(f *os.File, size int64, text string) (found int64) {
	var count atomic.Int64
	var readers sync.WaitGroup
	part := size/int64(runtime.GOMAXPROCS(0)) + 1
	for start := int64(0); start < size; start += part {
		readers.Go(func() {
			buffer := make([]byte, 1<<20+len(text)-1) // and what may go on in the next
			for at := start; at < min(start+part, size); at += 1 << 20 {
				n, _ := f.ReadAt(buffer[:min(int64(len(buffer)), start+part-at+int64(len(text))-1)], at)
				count.Add(int64(bytes.Count(buffer[:n], []byte(text))))
			}
		})
	}
	readers.Wait()
	return count.Load()
}
