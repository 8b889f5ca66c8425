package bench

import (
	"bufio"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/disk"
	"oakbarrel/core/format"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

const template = "{time} {host} {app}[{procid}] {severity}: {text}"

// newSet returns the writer of a set in a folder of its own.
func newSet(b *testing.B, s roll.Settings) *roll.Writer {
	dir := b.TempDir()
	s.Path, s.Mode = filepath.Join(dir, "all.log"), 0o600
	return roll.NewWriter(disk.OS, s, filepath.Join(dir, "intent"), make(chan struct{}, 1), time.Now)
}

func check(b *testing.B, err error) {
	b.Helper()
	if err != nil {
		b.Fatal(err)
	}
}

// BenchmarkFileOutlet parses nothing: it formats records and writes them into a
// rolled file, against writes of 64 KiB of the same lines.
func BenchmarkFileOutlet(b *testing.B) {
	const records = 1_000_000
	messages := lines(corpus(20_000))
	f, err := format.Parse(template)
	check(b, err)
	var batch record.Batch
	var all []record.Batch
	batches(messages, &batch, func() {
		all = append(all, record.Batch{Records: append([]record.Record(nil), batch.Records...)})
	})
	var text []byte
	for i := range all {
		for j := range all[i].Records {
			text = f.AppendLine(text, &all[i].Records[j])
		}
	}
	for b.Loop() {
		bare, ours, ratio := pair(5, func() time.Duration {
			file, err := os.Create(filepath.Join(b.TempDir(), "bare"))
			check(b, err)
			defer file.Close()
			start := time.Now()
			for range records / len(messages) {
				for rest := text; len(rest) > 0; rest = rest[min(64<<10, len(rest)):] {
					file.Write(rest[:min(64<<10, len(rest))])
				}
			}
			return time.Since(start)
		}, func() time.Duration {
			w := newSet(b, roll.Settings{Size: 64 << 20})
			defer w.Close()
			var held []byte
			start := time.Now()
			for range records / len(messages) {
				for i := range all {
					for j := range all[i].Records {
						held = f.AppendLine(held, &all[i].Records[j])
					}
					if len(held) >= 64<<10 {
						_, err := w.Write(held)
						check(b, err)
						held = held[:0]
					}
				}
			}
			return time.Since(start)
		})
		report(b, records, bare, ours, ratio)
		b.ReportMetric(100/ratio, "%-of-bare")
		b.ReportMetric(float64(len(text)*(records/len(messages)))/1e6/ours.Seconds(), "MB/s")
	}
}

// BenchmarkCompressPiece compresses a piece of 64 MB as the agent does, against
// the same library on the whole file.
func BenchmarkCompressPiece(b *testing.B) {
	data := corpus(350_000)
	for b.Loop() {
		var ourSize, bareSize int64
		bare, ours, ratio := pair(3, func() time.Duration {
			dir := b.TempDir()
			check(b, os.WriteFile(dir+"/in", data, 0o600))
			start := time.Now()
			in, err := os.Open(dir + "/in")
			check(b, err)
			out, err := os.Create(dir + "/out")
			check(b, err)
			w, err := zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
			check(b, err)
			_, err = io.Copy(struct{ io.Writer }{w}, in)
			check(b, err)
			check(b, w.Close())
			check(b, out.Sync())
			took := time.Since(start)
			st, _ := out.Stat()
			bareSize = st.Size()
			in.Close()
			out.Close()
			return took
		}, func() time.Duration {
			w := newSet(b, roll.Settings{Size: 1 << 30})
			defer w.Close()
			_, err := w.Write(data)
			check(b, err)
			_, err = w.Roll()
			check(b, err)
			check(b, w.Tidy(context.Background(), func(roll.Removal) {})) // the line of the tally
			s := w.Settings()
			s.Compress = roll.Zstd
			w.Configure(s)
			start := time.Now()
			check(b, w.Tidy(context.Background(), func(roll.Removal) {}))
			took := time.Since(start)
			pieces, _ := w.Pieces()
			ourSize = pieces[0].Size
			return took
		})
		report(b, 350_000, bare, ours, ratio)
		b.ReportMetric(float64(ourSize)/float64(bareSize), "x-bare-size")
		b.ReportMetric(float64(len(data))/1e6/ours.Seconds(), "MB/s")
	}
}

// BenchmarkRollOfManyPieces rolls a set that has ten thousand pieces.
func BenchmarkRollOfManyPieces(b *testing.B) {
	w := newSet(b, roll.Settings{Size: 1 << 30, Keep: roll.Keep{Pieces: 10_000}})
	defer w.Close()
	dir := filepath.Dir(w.Settings().Path)
	start := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for i := range 10_000 {
		check(b, os.WriteFile(filepath.Join(dir, "all-"+start.Add(time.Duration(i)*time.Minute).Format("20060102T150405Z")+".log"), []byte("one line\n"), 0o600))
	}
	opening := time.Now()
	check(b, w.Tick())
	opened := time.Since(opening)
	check(b, w.Tidy(context.Background(), func(roll.Removal) {}))
	for b.Loop() {
		const rolls = 20
		var longest, sum time.Duration
		for range rolls {
			_, err := w.Write([]byte("one line\n"))
			check(b, err)
			start := time.Now()
			_, err = w.Roll()
			check(b, err)
			check(b, w.Tidy(context.Background(), func(roll.Removal) {}))
			took := time.Since(start)
			sum, longest = sum+took, max(longest, took)
		}
		b.ReportMetric(float64(opened.Microseconds())/1000, "ms-to-open")
		b.ReportMetric(float64(sum.Microseconds())/1000/rolls, "ms/roll")
		b.ReportMetric(float64(longest.Microseconds())/1000, "ms/longest-roll")
		b.ReportMetric(0, "ns/op")
	}
}

// compressedSet writes a set of pieces of 16 MiB, compressed or not.
func compressedSet(b *testing.B, data []byte, kind roll.Compression) string {
	f, err := format.Parse("rfc5424")
	check(b, err)
	w := newSet(b, roll.Settings{Size: 16 << 20, Compress: kind, Format: f})
	defer w.Close()
	_, err = w.Write(data)
	check(b, err)
	_, err = w.Roll()
	check(b, err)
	untidy := func(p roll.Piece) bool { return p.Line == nil || kind != roll.NoCompression && !p.Compressed() }
	for pieces, _ := w.Pieces(); slices.ContainsFunc(pieces, untidy); pieces, _ = w.Pieces() { // each time some of them
		check(b, w.Tidy(context.Background(), func(roll.Removal) {}))
	}
	return w.Settings().Path
}

// BenchmarkVerify checks a set of plain pieces against its tally, against a loop
// that reads and hashes them.
func BenchmarkVerify(b *testing.B) {
	live := compressedSet(b, corpus(1_000_000), roll.NoCompression)
	pieces, err := roll.Pieces(live)
	check(b, err)
	for b.Loop() {
		bare, ours, ratio := pair(5, func() time.Duration {
			start := time.Now()
			for _, p := range pieces {
				file, err := os.Open(p.Path)
				check(b, err)
				h := sha256.New()
				io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{file}, make([]byte, 256<<10))
				file.Close()
			}
			return time.Since(start)
		}, func() time.Duration {
			start := time.Now()
			v, err := roll.Verify(context.Background(), live, "")
			check(b, err)
			if !v.OK {
				b.Fatal(v)
			}
			return time.Since(start)
		})
		report(b, 1_000_000, bare, ours, ratio)
	}
}

// BenchmarkShowWhere looks for a text in a compressed set with the command show,
// against the standard tools that decompress it and look through it.
func BenchmarkShowWhere(b *testing.B) {
	dir := b.TempDir()
	binary := filepath.Join(dir, "oakbarrel")
	if out, err := exec.Command("go", "build", "-o", binary, "oakbarrel/cmd/oakbarrel").CombinedOutput(); err != nil {
		b.Fatalf("%s", out)
	}
	live := compressedSet(b, corpus(2_000_000), roll.Zstd)
	pieces, err := roll.Pieces(live)
	check(b, err)
	var names []string
	for _, p := range pieces {
		names = append(names, p.Path)
	}
	for _, c := range []struct{ name, text, where string }{
		{"rare", "seq 00765432", `text contains "seq 00765432"`}, {"any-case", "seq 00765432", `"seq 00765432"`}, {"common", "loop c", `text contains "loop c"`},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				counts := [2]int{}
				count := func(i int, c *exec.Cmd) time.Duration {
					start := time.Now()
					out, err := c.StdoutPipe()
					check(b, err)
					check(b, c.Start())
					n := 0
					for lines := bufio.NewScanner(out); lines.Scan(); n++ {
					}
					check(b, c.Wait())
					counts[i] = n
					return time.Since(start)
				}
				bare, ours, ratio := pair(3, func() time.Duration {
					return count(0, exec.Command("sh", "-c", fmt.Sprintf("zstd -dc %s | grep -F '%s'", strings.Join(names, " "), c.text)))
				}, func() time.Duration {
					return count(1, exec.Command(binary, "show", live, "--where", c.where))
				})
				if counts[0] != counts[1] || counts[0] == 0 {
					b.Fatalf("the tools find %d lines, show %d", counts[0], counts[1])
				}
				report(b, 2_000_000, bare, ours, ratio)
			}
		})
	}
}
