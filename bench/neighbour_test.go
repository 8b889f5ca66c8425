package bench

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/service/access"
)

// BenchmarkBesideABadNeighbour has a hundred hosts send, alone and beside one that
// misbehaves in a way, in turns, and tells what part of their rate is left: the median
// of the pairs.
func BenchmarkBesideABadNeighbour(b *testing.B) {
	s := startStore(b)
	f := newFleet(b, s)
	ways := map[string]func(*neighbour, context.Context){
		"uploads-without-end": (*neighbour).upload,
		"scattered-minutes":   (*neighbour).scatter,
		"answers-not-read":    (*neighbour).readNothing,
		"forged-batches":      (*neighbour).forge,
	}
	for name, misbehave := range ways {
		b.Run(name, func(b *testing.B) {
			n := newNeighbour(b, s)
			for b.Loop() {
				var left []float64
				for range 3 {
					alone := f.send(b)
					ctx, cancel := context.WithCancel(context.Background())
					misbehave(n, ctx)
					time.Sleep(200 * time.Millisecond)
					beside := f.send(b)
					cancel()
					n.group.Wait()
					left = append(left, alone.Seconds()/beside.Seconds())
				}
				slices.Sort(left)
				b.ReportMetric(100*left[len(left)/2], "%of-the-rate-alone")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}

// fleet is a hundred hosts that send batches of 500 records.
type fleet struct {
	clients []*client.Client
	next    []uint64
	records []record.Record
}

const (
	fleetSize    = 100
	fleetBatches = 128 // twenty seconds or more: a neighbour is told by what it costs for as long as it stays
)

func newFleet(b *testing.B, s *store) *fleet {
	f := &fleet{next: slices.Repeat([]uint64{1}, fleetSize), records: parsed(500)}
	for range fleetSize {
		token, err := access.NewToken(s.db, "bench", access.Write, "")
		check(b, err)
		f.clients = append(f.clients, clientOf(b, s.url, token))
	}
	return f
}

// at returns records of the time at which a host comes to a number, ten a second.
func (f *fleet) at(first uint64) []record.Record {
	records := slices.Clone(f.records)
	for i := range records {
		records[i].Time.Sec += int64(first+uint64(i)) / 10
	}
	return records
}

// send has each host send some batches, and returns how long all take.
func (f *fleet) send(b *testing.B) time.Duration {
	var group sync.WaitGroup
	start := time.Now()
	for n, c := range f.clients {
		group.Go(func() {
			for range fleetBatches {
				payloads, sizes := pack(f.at(f.next[n]), f.next[n])
				head := headOf(f.next[n], payloads[0], sizes[0])
				for {
					_, err := c.SendBatch(context.Background(), fmt.Sprintf("%032x", 5000+n), "centre", "bench", head, payloads[0])
					if err == nil {
						break
					}
					time.Sleep(100 * time.Millisecond)
				}
				f.next[n] = head.Last + 1
			}
		})
	}
	group.Wait()
	return time.Since(start)
}

// neighbour is a host that misbehaves, with a token for writing and one for reading.
type neighbour struct {
	s           *store
	id          string
	token, read string
	client      *client.Client
	group       sync.WaitGroup
}

func newNeighbour(b *testing.B, s *store) *neighbour {
	n := &neighbour{s: s}
	for may, token := range map[string]*string{access.Write: &n.token, access.Read: &n.read} {
		var err error
		*token, err = access.NewToken(s.db, "bench", may, "")
		check(b, err)
	}
	n.id = fmt.Sprintf("%032x", sha256.Sum256([]byte(n.token)))[:32]
	n.client = clientOf(b, s.url, n.token)
	_, err := n.client.Confirmed(context.Background(), n.id, "centre", "bench", "")
	check(b, err)
	return n
}

// raw sends a request whose answer nobody reads, until ctx ends.
func (n *neighbour) raw(ctx context.Context, head string) {
	n.group.Go(func() {
		conn, err := net.Dial("tcp", strings.TrimPrefix(n.s.url, "http://"))
		if err != nil {
			return
		}
		defer conn.Close()
		fmt.Fprint(conn, head)
		<-ctx.Done()
	})
}

func (n *neighbour) upload(ctx context.Context) {
	for range 100 {
		n.raw(ctx, fmt.Sprintf("POST /api/v1/feeds/%s/slow?cask=bench HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n\r\n%s", n.id, n.token, 32<<20, strings.Repeat("x", 256<<10)))
	}
}

func (n *neighbour) readNothing(ctx context.Context) {
	for range 100 {
		n.raw(ctx, fmt.Sprintf("GET /api/v1/records?limit=1000000&since=2000-01-01T00:00:00Z HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", n.read))
	}
}

// scatter sends blocks whose records are each of another minute, which is slow to count.
func (n *neighbour) scatter(ctx context.Context) {
	all := parsed(1000)
	for i := range all {
		all[i].Time.Sec += int64(i) * 60
	}
	for outlet := range 20 {
		n.group.Go(func() {
			for first := uint64(1); ctx.Err() == nil; first += 1000 {
				payloads, sizes := pack(all, first)
				n.client.SendBatch(ctx, n.id, fmt.Sprint("scatter", outlet), "bench", headOf(first, payloads[0], sizes[0]), payloads[0])
			}
		})
	}
}

// forge sends batches for another host, as quickly as they are refused.
func (n *neighbour) forge(ctx context.Context) {
	payloads, sizes := pack(parsed(500), 1)
	for range 20 {
		n.group.Go(func() {
			for ctx.Err() == nil {
				n.client.SendBatch(ctx, fmt.Sprintf("%032x", 5000), "centre", "bench", headOf(1, payloads[0], sizes[0]), payloads[0])
			}
		})
	}
}
