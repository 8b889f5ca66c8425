package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"oakbarrel/agent"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

// BenchmarkRoad takes a file of lines from where it stands to the last
// confirmation: followed, judged, spooled, packed, sent, unpacked, indexed and
// committed. The bare one posts the same bytes in pieces of 1 MiB on one
// connection, and syncs each.
func BenchmarkRoad(b *testing.B) {
	const records = 1_500_000
	data := corpus(records)
	s := startStore(b)
	token, err := access.NewToken(s.db, "bench", access.Write, "")
	check(b, err)
	f, err := os.Create(filepath.Join(b.TempDir(), "bare"))
	check(b, err)
	defer f.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.Copy(f, r.Body); err != nil || f.Sync() != nil {
			w.WriteHeader(http.StatusInternalServerError)
		}
	}))
	defer server.Close()
	for b.Loop() {
		bare, ours, ratio := pair(3, func() time.Duration {
			start := time.Now()
			for rest := data; len(rest) > 0; {
				n := min(len(rest), 1<<20)
				response, err := http.Post(server.URL, "application/octet-stream", bytes.NewReader(rest[:n]))
				check(b, err)
				response.Body.Close()
				rest = rest[n:]
			}
			return time.Since(start)
		}, func() time.Duration {
			return s.follow(b, data, token, uint64(records))
		})
		report(b, records, bare, ours, ratio)
		b.ReportMetric(float64(len(data))/1e6/ours.Seconds(), "MB/s")
		b.ReportMetric(100/ratio, "%of-bare")
	}
}

// follow starts an agent on a file with the data, and returns how long it takes
// until all of it is confirmed.
func (s *store) follow(b *testing.B, data []byte, token string, records uint64) time.Duration {
	dir, err := os.MkdirTemp("", "ob")
	check(b, err)
	defer os.RemoveAll(dir)
	path := func(name string) string { return filepath.Join(dir, name) }
	check(b, os.WriteFile(path("token"), []byte(token), 0o600))
	check(b, os.WriteFile(path("lines.log"), data, 0o600))
	check(b, os.WriteFile(path("plan.yaml"), fmt.Appendf(nil, `oakbarrel: 1
service: {url: "%s", token_file: %s}
disk: {floor: 0}
intakes: {lines: {files: {paths: ["%s"], decode: syslog}}}
otherwise: {send: [centre]}
outlets: {centre: {store: {cask: bench}, spool: {disk: 1GiB, overflow: wait}, batch: {wait: 20ms}}}
`, s.url, path("token"), path("lines.log")), 0o600))
	var before model.Feed
	s.db.Order("id DESC").Limit(1).Find(&before)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	start := time.Now()
	go func() {
		ended <- agent.Run(ctx, agent.Options{PlanFile: path("plan.yaml"), StateDir: path("state"), Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Ready: func() {}})
	}()
	for {
		var feed model.Feed
		s.db.Where("id > ?", before.ID).Limit(1).Find(&feed)
		if feed.Confirmed >= records {
			break
		}
		time.Sleep(25 * time.Millisecond)
	}
	took := time.Since(start)
	cancel()
	<-ended
	return took
}
