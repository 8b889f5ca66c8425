package bench

import (
	"context"
	"fmt"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
	"oakbarrel/service/ingest"
)

// withFields are the lines of a corpus as records, with fields: two of few values, one of many.
func withFields(data []byte) (all []record.Record) {
	parser := wire.Parser{Default: record.DefaultPriority}
	received := record.StampOf(time.Now())
	for i, line := range lines(data) {
		r := record.Record{Received: received, Intake: "wire"}
		parser.Parse(&r, line)
		r.Data = fmt.Appendf(nil, `[pump@32473 id="P%02d" loop="%c" run="%d"]`, i*7%24, 'a'+i*11%6, i)
		all = append(all, r)
	}
	return all
}

// BenchmarkBreakdown counts a store that holds a gigabyte of lines by values, from the client's
// question to the end of the answer, against the same by unpacking the blocks.
func BenchmarkBreakdown(b *testing.B) {
	s := startStore(b)
	all := withFields(corpus(1_000_000))
	var builder block.Builder
	for range 5 {
		for i := range all {
			builder.Add(s.next+uint64(builder.Len()), &all[i])
			if builder.Len() == 20_000 {
				s.send(b, builder.Finish(nil), 20_000)
			}
		}
	}
	s.settle(b)
	ask := func(where, by, field string) func() {
		return func() {
			_, err := s.reader.Count(context.Background(), client.Query{Where: where}, by, field, 20)
			check(b, err)
		}
	}
	for _, c := range []struct{ name, where, by, field string }{
		{"app", "any", "app", ""},
		{"msgid", "any", "msgid", ""},
		{"field", "any", "field", "pump@32473.id"},
		{"field-of-one-app", "app is pumpd and severity at least warning", "field", "pump@32473.loop"},
		{"field-of-many-values", "any", "field", "pump@32473.run"},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				start := time.Now()
				ask(c.where, c.by, c.field)()
				first := time.Since(start)
				told := min(first, bestOf3(ask(c.where, c.by, c.field)))
				opened := bestOf3(ask("("+c.where+") and (text exists or text missing)", c.by, c.field))
				b.ReportMetric(first.Seconds()*1000, "first-ms")
				b.ReportMetric(told.Seconds()*1000, "ms")
				b.ReportMetric(opened.Seconds()*1000, "opened-ms")
				b.ReportMetric(opened.Seconds()/told.Seconds(), "times-faster")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}

// BenchmarkValues finds out what values the records of a block have, against unpacking it.
func BenchmarkValues(b *testing.B) {
	var builder block.Builder
	for i, r := range withFields(corpus(20_000)) {
		builder.Add(uint64(i+1), &r)
	}
	payload := builder.Finish(nil)
	size := 0
	for b.Loop() {
		start := time.Now()
		values, err := ingest.DescribeValues(payload)
		check(b, err)
		told := time.Since(start)
		start = time.Now()
		_, err = block.Decode(payload)
		check(b, err)
		bare := time.Since(start)
		size = len(values)
		b.ReportMetric(told.Seconds()/bare.Seconds(), "x-bare")
		b.ReportMetric(float64(told.Nanoseconds())/20_000, "ns/record")
	}
	b.ReportMetric(float64(size), "B")
}
