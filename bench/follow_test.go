package bench

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"oakbarrel/core/disk"
	clines "oakbarrel/core/lines"
	"oakbarrel/core/tail"
)

// count is a sink that counts records.
type count struct{ records atomic.Int64 }

func (c *count) Taken(string, int64) []int64 { return nil }
func (c *count) Forget([]string)             {}
func (c *count) Pass(out *clines.Out) bool {
	c.records.Add(int64(len(out.Batch.Records)))
	return true
}

// plainLines are lines as programs write them into files.
func plainLines(n int) []byte {
	var b bytes.Buffer
	words := []string{"INFO", "INFO", "DEBUG", "WARN"}
	for i := range n {
		fmt.Fprintf(&b, "2026-11-25T10:15:%02d.%03dZ %s tank %d: pump P%d at %d rpm, flow %d.%d l/min, valve V%d at %d%%, asked by controller %08x\n",
			i/1000%60, i%1000, words[i%4], i%9, i%7, 1400+i%90, 20+i%3, i%10, i%40, i%100, i*2654435761)
	}
	return b.Bytes()
}

// follow follows files until as many records have come, and returns how long that took.
func follow(b *testing.B, path string, records int64) time.Duration {
	c := &count{}
	s := tail.Settings{Paths: []string{path}, Open: 1000, LastWait: time.Second, Lines: clines.Settings{Largest: 64 << 10}}
	f, err := tail.New(s, disk.OS, filepath.Join(b.TempDir(), "registry"), c, slog.New(slog.DiscardHandler), time.Now)
	check(b, err)
	ctx, end := context.WithCancel(context.Background())
	done := make(chan struct{})
	start := time.Now()
	go func() { f.Run(ctx); close(done) }()
	for c.records.Load() < records {
		time.Sleep(200 * time.Microsecond)
	}
	took := time.Since(start)
	end()
	<-done
	return took
}

// BenchmarkFollow follows one file of plain lines into counting, with time and
// severity found, against a loop that reads it and counts its lines.
func BenchmarkFollow(b *testing.B) {
	const records = 1_000_000
	data := plainLines(records)
	path := filepath.Join(b.TempDir(), "plain.log")
	check(b, os.WriteFile(path, data, 0o600))
	for b.Loop() {
		bare, ours, ratio := pair(5, func() time.Duration {
			start := time.Now()
			f, err := os.Open(path)
			check(b, err)
			defer f.Close()
			r := bufio.NewReaderSize(f, 64<<10)
			n := 0
			for {
				line, err := r.ReadSlice('\n')
				if err == io.EOF {
					break
				}
				n += min(1, len(line))
			}
			if n != records {
				b.Fatal(n)
			}
			return time.Since(start)
		}, func() time.Duration { return follow(b, path, records) })
		report(b, records, bare, ours, ratio)
	}
}

// cpu returns the time that the process has spent on a core.
func cpu() time.Duration {
	var u syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// heap returns how many bytes are held.
func heap() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// BenchmarkThousandFiles follows a thousand files: idle, and then with ten
// thousand lines a second over all of them. It tells the share of a core.
func BenchmarkThousandFiles(b *testing.B) {
	dir := b.TempDir()
	var files []*os.File
	for n := range 1000 {
		f, err := os.OpenFile(filepath.Join(dir, fmt.Sprintf("%04d.log", n)), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
		check(b, err)
		defer f.Close()
		fmt.Fprintf(f, "2026-11-25T10:15:00Z INFO file %d begun\n", n)
		files = append(files, f)
	}
	line := []byte("2026-11-25T10:15:00Z INFO tank 4: pump P7 at 1440 rpm, flow 21.4 l/min, valve V9 at 40%, asked by controller 0badcafe\n")
	write := func(span time.Duration) (lines int64, used time.Duration) {
		start, before := time.Now(), cpu()
		for time.Since(start) < span {
			for lines < int64(time.Since(start).Seconds()*10_000) {
				files[lines*7919%1000].Write(line)
				lines++
			}
			time.Sleep(time.Millisecond)
		}
		return lines, cpu() - before
	}
	for b.Loop() {
		const span = 5 * time.Second
		_, writing := write(span)
		c := &count{}
		s := tail.Settings{Paths: []string{filepath.Join(dir, "*.log")}, Open: 1000, LastWait: time.Second, Lines: clines.Settings{Largest: 64 << 10}}
		f, err := tail.New(s, disk.OS, filepath.Join(b.TempDir(), "registry"), c, slog.New(slog.DiscardHandler), time.Now)
		check(b, err)
		held := heap()
		ctx, end := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() { f.Run(ctx); close(done) }()
		time.Sleep(2 * time.Second)
		b.ReportMetric(float64(heap()-held)/(1<<20), "MiB-held")
		before := cpu()
		time.Sleep(span)
		idle := cpu() - before
		had := c.records.Load()
		lines, both := write(span)
		time.Sleep(200 * time.Millisecond)
		if got := c.records.Load() - had; got != lines {
			b.Fatalf("%d of %d lines came", got, lines)
		}
		end()
		<-done
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(100*idle.Seconds()/span.Seconds(), "%core-idle")
		b.ReportMetric(100*(both-writing).Seconds()/span.Seconds(), "%core-10k-lines/s")
	}
}
