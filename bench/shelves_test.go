package bench

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/demo/mariadb"
	"oakbarrel/service/access"
	"oakbarrel/service/shelf"
)

// spread is a store with so many shelves, and agents that send into it side by side.
type spread struct {
	*store
	agents []*client.Client
	next   []uint64
}

const spreadAgents = 6

func newSpread(b *testing.B, shelves int) *spread {
	s := &spread{store: startStore(b)}
	for n := range shelves - 1 {
		dir, err := os.MkdirTemp("", "ob")
		check(b, err)
		server, err := mariadb.Start(context.Background(), dir)
		check(b, err)
		b.Cleanup(func() { server.Kill(); os.RemoveAll(dir) })
		_, err = shelf.Add(s.db, fmt.Sprint("shelf-", n), server.DSN, 1<<40)
		check(b, err)
	}
	if shelves > 1 {
		time.Sleep(5 * time.Second) // the service looks now and then
	}
	for range spreadAgents {
		token, err := access.NewToken(s.db, "bench", access.Write, "")
		check(b, err)
		s.agents, s.next = append(s.agents, clientOf(b, s.url, token)), append(s.next, 1)
	}
	return s
}

// sendAll has each agent send the same blocks, side by side.
func (s *spread) sendAll(b *testing.B, all []record.Record) time.Duration {
	packed, sizes := make([][][]byte, spreadAgents), make([][]int, spreadAgents)
	for i := range s.agents {
		packed[i], sizes[i] = pack(all, s.next[i])
	}
	start := time.Now()
	var sending sync.WaitGroup
	for i, agent := range s.agents {
		sending.Go(func() {
			for n, payload := range packed[i] {
				head := headOf(s.next[i], payload, sizes[i][n])
				if _, err := agent.SendBatch(context.Background(), fmt.Sprintf("%032x", i+1), "centre", "bench", head, payload); err != nil {
					b.Error(err)
					return
				}
				s.next[i] = head.Last + 1
			}
		})
	}
	sending.Wait()
	return time.Since(start)
}

// BenchmarkShelves sends to, and searches, two and three shelves against one with the same
// data, on the same cores.
func BenchmarkShelves(b *testing.B) {
	slog.SetLogLoggerLevel(slog.LevelError)
	all := records(lines(corpus(200_000)))
	b.Run("send to two", func(b *testing.B) {
		one, two := newSpread(b, 1), newSpread(b, 2)
		for b.Loop() {
			bare, ours, ratio := pair(5, func() time.Duration { return one.sendAll(b, all[:100_000]) }, func() time.Duration { return two.sendAll(b, all[:100_000]) })
			report(b, spreadAgents*100_000, bare, ours, ratio)
		}
	})
	one, three := newSpread(b, 1), newSpread(b, 3)
	one.sendAll(b, all)
	three.sendAll(b, all)
	for name, where := range map[string]string{"word": `text has word "00165432"`, "none": `app is "ghostd"`, "page": "", "count": ""} {
		b.Run("search three/"+name, func(b *testing.B) {
			ask := func(s *spread) time.Duration {
				start := time.Now()
				for range 10 {
					q := client.Query{Where: where}
					if name == "count" {
						_, err := s.reader.Count(context.Background(), q, "severity", "", 20)
						check(b, err)
						continue
					}
					check(b, s.reader.Read(context.Background(), q, client.Page{Limit: 100}, func([]byte) error { sink++; return nil }))
				}
				return time.Since(start) / 10
			}
			for b.Loop() {
				bare, ours, ratio := pair(7, func() time.Duration { return ask(one) }, func() time.Duration { return ask(three) })
				b.ReportMetric(bare.Seconds()*1000, "one-ms")
				b.ReportMetric(ours.Seconds()*1000, "three-ms")
				b.ReportMetric(ratio, "x-one")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
