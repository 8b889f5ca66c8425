package bench

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/core/wire"
	"oakbarrel/demo/mariadb"
	"oakbarrel/service"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

// store is the real service before a real database, and its client.
type store struct {
	db     *gorm.DB
	client *client.Client
	reader *client.Client
	url    string
	next   uint64
	dir    string // of the database
}

func startStore(b *testing.B) *store {
	dir, err := os.MkdirTemp("", "ob") // the path of a socket must be short
	if err != nil {
		b.Fatal(err)
	}
	server, err := mariadb.Start(context.Background(), dir)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { server.Kill(); os.RemoveAll(dir) })
	s := &store{next: 1, dir: dir}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- service.Run(ctx, service.Options{Listen: "127.0.0.1:0", DSN: server.DSN, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Ready: func(a string) { ready <- a }})
	}()
	b.Cleanup(func() { cancel(); <-ended })
	address := <-ready
	s.url = "http://" + address
	if s.db, err = model.Open(server.DSN, slog.New(slog.DiscardHandler)); err != nil {
		b.Fatal(err)
	}
	for _, c := range []struct {
		may string
		to  **client.Client
	}{{access.Write, &s.client}, {access.Read, &s.reader}} {
		token, err := access.NewToken(s.db, "bench", c.may, "")
		if err != nil {
			b.Fatal(err)
		}
		*c.to = clientOf(b, s.url, token)
	}
	return s
}

// clientOf returns a client of a service.
func clientOf(b *testing.B, url, token string) *client.Client {
	c, err := client.New(client.Options{URLs: []string{url}, Token: func() (string, error) { return token, nil }})
	check(b, err)
	return c
}

// records parses messages.
func records(messages [][]byte) []record.Record {
	p := wire.Parser{Default: record.DefaultPriority}
	all := make([]record.Record, len(messages))
	now := record.StampOf(time.Now())
	for i, m := range messages {
		all[i].Received, all[i].Intake = now, "wire"
		p.Parse(&all[i], m)
	}
	return all
}

// pack makes blocks of up to 20,000 records, as the agent does.
func pack(all []record.Record, first uint64) (payloads [][]byte, sizes []int) {
	var builder block.Builder
	for i := range all {
		builder.Add(first+uint64(i), &all[i])
		if builder.Len() == 20_000 || builder.Size() >= 4<<20 || i == len(all)-1 {
			sizes = append(sizes, builder.Len())
			payloads = append(payloads, builder.Finish(nil))
		}
	}
	return payloads, sizes
}

func (s *store) send(b *testing.B, payload []byte, n int) {
	head := headOf(s.next, payload, n)
	answer, err := s.client.SendBatch(context.Background(), fmt.Sprintf("%032x", 1), "centre", "bench", head, payload)
	if err != nil || answer.Confirmed != head.Last {
		b.Fatal(answer, err)
	}
	s.next = head.Last + 1
}

// headOf tells what a block of n records is.
func headOf(first uint64, payload []byte, n int) client.BatchHead {
	hash := sha256.Sum256(payload)
	return client.BatchHead{Numbers: spool.Numbers{First: first, Last: first + uint64(n) - 1}, Hash: hex.EncodeToString(hash[:])}
}

// sendAll packs records and sends them.
func (s *store) sendAll(b *testing.B, all []record.Record) {
	payloads, sizes := pack(all, s.next)
	for i, p := range payloads {
		s.send(b, p, sizes[i])
	}
}

// appendAndSync is the least that a store can do: it appends what is posted to
// a file and syncs it.
func appendAndSync(b *testing.B) (post func(payload []byte)) {
	f, err := os.Create(filepath.Join(b.TempDir(), "bare"))
	if err != nil {
		b.Fatal(err)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.Copy(f, r.Body); err != nil || f.Sync() != nil {
			w.WriteHeader(http.StatusInternalServerError)
		}
	}))
	b.Cleanup(func() { server.Close(); f.Close() })
	return func(payload []byte) {
		response, err := http.Post(server.URL, "application/octet-stream", bytes.NewReader(payload))
		if err != nil || response.StatusCode != http.StatusOK {
			b.Fatal(response, err)
		}
		response.Body.Close()
	}
}

// BenchmarkBatchToConfirmed sends batch after batch on one connection, each
// after the one before is confirmed, against posts of the same blocks that are
// appended to a file and synced.
func BenchmarkBatchToConfirmed(b *testing.B) {
	data := corpus(400_000)
	all := records(lines(data))
	s, post := startStore(b), appendAndSync(b)
	for b.Loop() {
		bare, ours, ratio := pair(5, func() time.Duration {
			payloads, _ := pack(all, s.next)
			start := time.Now()
			for _, p := range payloads {
				post(p)
			}
			return time.Since(start)
		}, func() time.Duration {
			payloads, sizes := pack(all, s.next)
			start := time.Now()
			for i, p := range payloads {
				s.send(b, p, sizes[i])
			}
			return time.Since(start)
		})
		report(b, len(all), bare, ours, ratio)
		b.ReportMetric(float64(len(data))/1e6/ours.Seconds(), "MB/s")
	}
}

// BenchmarkStoreSize compares what the store keeps of lines with the lines
// compressed by zstd -3.
func BenchmarkStoreSize(b *testing.B) {
	data := corpus(400_000)
	all := records(lines(data))
	file := filepath.Join(b.TempDir(), "lines")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		plain, err := exec.Command("zstd", "-3", "-c", "-q", file).Output()
		if err != nil {
			b.Fatal(err)
		}
		payloads, _ := pack(all, 1)
		size, words := 0, 0
		for _, p := range payloads {
			_, filter, err := block.Index(p)
			if err != nil {
				b.Fatal(err)
			}
			size, words = size+len(p), words+len(filter)
		}
		b.ReportMetric(float64(len(data))/float64(size), "times-smaller")
		b.ReportMetric(float64(size)/float64(len(plain)), "x-zstd-3")
		b.ReportMetric(float64(size+words)/float64(len(plain)), "with-filter-x-zstd-3")
		b.ReportMetric(0, "ns/op")
	}
}

// BenchmarkSearch looks for one record among a million, against unpacking the
// same lines and looking through them, on one core.
func BenchmarkSearch(b *testing.B) {
	const million = 1_000_000
	data := corpus(million)
	s := startStore(b)
	s.sendAll(b, records(lines(data)))
	encoder, _ := zstd.NewWriter(nil)
	decoder, _ := zstd.NewReader(nil)
	var packed [][]byte
	for rest := data; len(rest) > 0; {
		n := min(len(rest), 4<<20)
		packed = append(packed, encoder.EncodeAll(rest[:n], nil))
		rest = rest[n:]
	}
	for name, where := range map[string]string{
		"word": `text has word "00765432"`, "contains": `text contains "seq 00765432"`, "words": `"seq 00765432"`, "inner": `text contains "q 0076543200"`, "none": `app is "ghostd"`,
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				bare, ours, ratio := pair(5, func() time.Duration {
					start := time.Now()
					var lines []byte
					for _, p := range packed {
						lines, _ = decoder.DecodeAll(p, lines[:0])
						sink += bytes.Index(lines, []byte("seq 00765432"))
					}
					return time.Since(start)
				}, func() time.Duration {
					start := time.Now()
					err := s.reader.Read(context.Background(), client.Query{Where: where}, client.Page{}, func([]byte) error { sink++; return nil })
					if err != nil {
						b.Fatal(err)
					}
					return time.Since(start)
				})
				b.ReportMetric(bare.Seconds()*1000, "bare-ms")
				b.ReportMetric(ours.Seconds()*1000, "ms")
				b.ReportMetric(ratio, "x-bare")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
