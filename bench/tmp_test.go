package bench

import (
	"testing"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
)

func BenchmarkTmpPack(b *testing.B) {
	all := records(lines(corpus(100_000)))
	var builder block.Builder
	var dst []byte
	n := 0
	for b.Loop() {
		for i := range all {
			builder.Add(uint64(i%20000+1), &all[i])
			if i%20000 == 19999 {
				dst = builder.Finish(dst[:0])
			}
			n++
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(n), "ns/rec")
}

func BenchmarkTmpIndex(b *testing.B) {
	all := records(lines(corpus(20_000)))
	var builder block.Builder
	for i := range all {
		builder.Add(uint64(i+1), &all[i])
	}
	p := builder.Finish(nil)
	n := 0
	for b.Loop() {
		if _, _, err := block.Index(p, func(*record.Record) {}); err != nil {
			b.Fatal(err)
		}
		n += len(all)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(n), "ns/rec")
}
