package bench

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

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
		bare, ours, ratio := pair(3, func() time.Duration { return post(b, server.URL, data) }, func() time.Duration { return s.follow(b, data, uint64(records)) })
		report(b, records, bare, ours, ratio)
		b.ReportMetric(float64(len(data))/1e6/ours.Seconds(), "MB/s")
		b.ReportMetric(100/ratio, "%of-bare")
	}
}

// post posts data in pieces of 1 MiB on one connection, and returns how long it takes.
func post(b *testing.B, url string, data []byte) time.Duration {
	start := time.Now()
	for piece := range slices.Chunk(data, 1<<20) {
		response, err := http.Post(url, "application/octet-stream", bytes.NewReader(piece))
		check(b, err)
		response.Body.Close()
	}
	return time.Since(start)
}

// follow returns how long an agent takes from the start until all of the data is confirmed.
func (s *store) follow(b *testing.B, data []byte, records uint64) time.Duration {
	token, err := access.NewToken(s.db, "bench", access.Write, "") // that of the agent which is begun
	check(b, err)
	file := filepath.Join(b.TempDir(), "token")
	check(b, os.WriteFile(file, []byte(token), 0o600))
	var before model.Feed
	s.db.Order("id DESC").Limit(1).Find(&before)
	return forward(b, data, fmt.Sprintf(`service: {url: "%s", token_file: %s}`, s.url, file), "store: {cask: bench}", func(string) bool {
		var feed model.Feed
		s.db.Where("id > ?", before.ID).Limit(1).Find(&feed)
		return feed.Confirmed >= records
	})
}
