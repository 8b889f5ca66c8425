package bench

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"oakbarrel/client"
)

// BenchmarkLiveFollow tells how long after a batch was confirmed a live
// follower has its last record.
func BenchmarkLiveFollow(b *testing.B) {
	s := startStore(b)
	all := parsed(2000)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s.sendAll(b, all[:1]) // makes the cask
	arrived := make(chan time.Time, 100)
	ended := make(chan error, 1)
	go func() {
		ended <- s.reader.Follow(ctx, client.Query{Where: `text has word "00001999"`}, func(line []byte) error {
			if bytes.Contains(line, []byte("00001999")) {
				arrived <- time.Now()
			}
			return nil
		})
	}()
	for len(arrived) == 0 { // until it follows
		s.sendAll(b, all[1999:])
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(100 * time.Millisecond)
	for len(arrived) > 0 {
		<-arrived
	}
	for _, each := range []int{1, 100, 2000} {
		b.Run(fmt.Sprint(each), func(b *testing.B) {
			for b.Loop() {
				var took []time.Duration
				for range 100 {
					s.sendAll(b, all[len(all)-each:])
					confirmed := time.Now()
					took = append(took, (<-arrived).Sub(confirmed))
				}
				slices.Sort(took)
				b.ReportMetric(took[50].Seconds()*1000, "ms-median")
				b.ReportMetric(took[99].Seconds()*1000, "ms-longest")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
	cancel()
	check(b, <-ended)
}
