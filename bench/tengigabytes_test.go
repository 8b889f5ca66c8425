package bench

import (
	"context"
	"testing"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
	"oakbarrel/service/model"
)

// BenchmarkTenGigabytes asks a store the same questions when it holds one gigabyte of lines,
// and when it holds ten: what hosts have said in a day, and in nine.
func BenchmarkTenGigabytes(b *testing.B) {
	const million, rounds = 1_000_000, 53 // of 188 bytes a line
	s := startStore(b)
	data := corpus(million)
	parser := wire.Parser{Default: record.DefaultPriority}
	received := record.StampOf(time.Now())
	var builder block.Builder
	ctx, newest := context.Background(), time.Time{}
	const roundSeconds = 15_000 // that a million lines speak of
	grow := func(from, to int) {
		for i := from; i < to; i++ {
			for _, line := range lines(data) {
				r := record.Record{Received: received, Intake: "wire"}
				parser.Parse(&r, line)
				r.Time.Sec += int64(i) * roundSeconds
				newest = time.Unix(r.Time.Sec, 0)
				builder.Add(s.next+uint64(builder.Len()), &r)
				if builder.Len() == 20_000 {
					s.send(b, builder.Finish(nil), 20_000)
				}
			}
		}
	}
	questions := map[string]func(){
		"rare":   func() { s.ask(b, `text has word "5ea077e2c0de4b1d"`) },
		"absent": func() { s.ask(b, `text has word "0ddba11f15b0a7e5"`) },
		"newest-page": func() {
			check(b, s.reader.Read(ctx, client.Query{}, client.Page{Limit: 1000}, func([]byte) error { sink++; return nil }))
		},
		"histogram-of-a-day": func() {
			_, err := s.reader.Count(ctx, client.Query{Since: newest.Add(-24 * time.Hour).Truncate(time.Minute), Until: newest.Truncate(time.Minute)}, "minute", "", 20)
			check(b, err)
		},
	}
	one := map[string]time.Duration{}
	grow(0, 3)
	rare := record.Record{Received: received, Time: received, Text: []byte("needle 5ea077e2c0de4b1d is here")}
	builder.Add(s.next, &rare)
	s.send(b, builder.Finish(nil), 1)
	grow(3, rounds/10)
	s.settle(b)
	for name, ask := range questions {
		one[name] = bestOf9(ask)
	}
	grow(rounds/10, rounds)
	s.settle(b)
	for name, ask := range questions {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				ten := bestOf9(ask)
				b.ReportMetric(one[name].Seconds()*1000, "one-ms")
				b.ReportMetric(ten.Seconds()*1000, "ten-ms")
				b.ReportMetric(ten.Seconds()/one[name].Seconds(), "x-one")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}

func bestOf9(f func()) time.Duration { return min(bestOf3(f), bestOf3(f), bestOf3(f)) }

// settle has the service put in order what came, as if that were a day ago.
func (s *store) settle(b *testing.B) {
	b.Helper()
	check(b, s.db.Model(&model.Block{}).Where("settled = 0").Update("arrived", gorm.Expr("arrived - 86400000000")).Error)
	for until := time.Now().Add(5 * time.Minute); ; time.Sleep(time.Second) {
		var loose int64
		check(b, s.db.Model(&model.Block{}).Where("sheaf_id = 0").Count(&loose).Error)
		if loose < 64 {
			time.Sleep(5 * time.Second) // until the rest is in order, too
			return
		}
		if time.Now().After(until) {
			b.Fatalf("%d blocks are not put in order", loose)
		}
	}
}
