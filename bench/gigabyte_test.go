package bench

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// BenchmarkGigabyte reads in a store that holds a gigabyte of lines, from the
// client's question to the end of the answer, against zstd unpacking the same
// lines into grep.
func BenchmarkGigabyte(b *testing.B) {
	const million = 1_000_000
	s := startStore(b)
	dir := b.TempDir()
	file, err := os.Create(filepath.Join(dir, "lines.zst"))
	check(b, err)
	plain, err := os.Create(filepath.Join(dir, "lines"))
	check(b, err)
	defer plain.Close()
	pack := exec.Command("zstd", "-3", "-q", "-c")
	in, err := pack.StdinPipe()
	check(b, err)
	pack.Stdout = file
	check(b, pack.Start())
	var builder block.Builder
	parser := wire.Parser{Default: record.DefaultPriority}
	received := record.StampOf(time.Now())
	total := 0
	rare := record.Record{Received: received, Time: received, Text: []byte("needle 5ea077e2c0de4b1d is here")}
	var tenth time.Duration // of the same question to a tenth of the store
	for i := range 5 {      // five times the same million, with other ids
		data := corpus(million)
		in.Write(data)
		plain.Write(data)
		total += len(data)
		for _, line := range lines(data) {
			r := record.Record{Received: received, Intake: "wire"}
			parser.Parse(&r, line)
			builder.Add(s.next+uint64(builder.Len()), &r)
			if builder.Len() == 20_000 {
				s.send(b, builder.Finish(nil), 20_000)
			}
			if i == 0 && s.next == million/2+1 && builder.Len() == 0 {
				builder.Add(s.next, &rare)
				s.send(b, builder.Finish(nil), 1)
				tenth = bestOf3(func() { s.ask(b, `text has word "5ea077e2c0de4b1d"`) })
			}
		}
	}
	line := []byte("<13>1 - reef-02 x - - - needle 5ea077e2c0de4b1d is here\n")
	in.Write(line)
	plain.Write(line)
	in.Close()
	check(b, pack.Wait())
	grep := func(args ...string) time.Duration {
		start := time.Now()
		unpack, look := exec.Command("zstd", "-dcq", file.Name()), exec.Command("grep", args...)
		look.Stdin, err = unpack.StdoutPipe()
		check(b, err)
		check(b, unpack.Start())
		look.Run() // 1 for nothing found
		unpack.Wait()
		return time.Since(start)
	}
	ctx := context.Background()
	read := func(where string) func() { return func() { s.ask(b, where) } }
	count := func(where, by string) func() {
		return func() {
			_, err := s.reader.Count(ctx, client.Query{Where: where}, by, "", 20)
			check(b, err)
		}
	}
	since := time.Unix(1, 0)
	shapes := func(where string) func() {
		return func() {
			_, err := s.reader.Shapes(ctx, client.Query{Since: since, Until: time.Now().AddDate(1, 0, 0), Where: where}, client.ShapesAsked{})
			check(b, err)
		}
	}
	for _, c := range []struct {
		name string
		ask  func()
		grep []string
	}{
		{"shapes", shapes(""), nil},
		{"count-by-app", count("", "app"), nil},
		{"count-by-host-of-one-app", count("app is pumpd", "host"), nil},
		{"shapes-by-unpacking", shapes("text exists"), nil},
		{"rare", read(`text has word "5ea077e2c0de4b1d"`), []string{"-c", "-F", "5ea077e2c0de4b1d"}},
		{"absent", read(`text has word "0ddba11f15b0a7e5"`), []string{"-c", "-F", "0ddba11f15b0a7e5"}},
		{"contains", read(`text contains "a077e2c0de"`), []string{"-c", "-F", "a077e2c0de"}},
		{"count-common", count("text has word pump", "severity"), []string{"-c", "-F", "pump"}},
		{"counts-over-time", count("", "minute"), nil},
		{"newest-page", read(""), nil},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				start := time.Now()
				c.ask()
				first := time.Since(start) // when little of the store is in memory
				best := min(first, bestOf3(c.ask))
				b.ReportMetric(first.Seconds()*1000, "first-ms")
				if c.name == "rare" {
					b.ReportMetric(bestOf3(func() {
						if n := scan(plain, int64(total+len(line)), "5ea077e2c0de4b1d"); n != 1 {
							b.Errorf("a scan finds %d", n)
						}
					}).Seconds()*1000, "scan-ms")
					b.ReportMetric(best.Seconds()/tenth.Seconds(), "x-of-a-tenth")
				}
				b.ReportMetric(best.Seconds()*1000, "ms")
				b.ReportMetric(0, "ns/op")
				if c.grep != nil {
					bare := grep(c.grep...)
					b.ReportMetric(bare.Seconds()*1000, "bare-ms")
					b.ReportMetric(bare.Seconds()/best.Seconds(), "times-faster")
				}
			}
		})
	}
	b.Run("size", func(b *testing.B) {
		for b.Loop() {
			packed, err := file.Stat()
			check(b, err)
			b.ReportMetric(s.tables(b)/float64(packed.Size()), "x-zstd-3")
			b.ReportMetric(0, "ns/op")
		}
	})
	b.Logf("%d MB of lines", total/1e6)
}

// tables returns how many bytes the files of the database's tables have.
func (s *store) tables(b *testing.B) (size float64) {
	files, err := filepath.Glob(filepath.Join(s.dir, "data", "*", "*.ibd"))
	check(b, err)
	for _, f := range files {
		st, err := os.Stat(f)
		check(b, err)
		size += float64(st.Size())
	}
	return size
}

// ask reads the newest records that meet a condition.
func (s *store) ask(b *testing.B, where string) {
	check(b, s.reader.Read(context.Background(), client.Query{Where: where}, client.Page{Limit: 1000}, func([]byte) error { sink++; return nil }))
}

func bestOf3(f func()) time.Duration {
	best := time.Hour
	for range 3 {
		start := time.Now()
		f()
		best = min(best, time.Since(start))
	}
	return best
}
