package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"oakbarrel/agent"
)

// BenchmarkOutlets follows a file into the outlets of other protocols, until
// the receivers have all of it, which they throw away. The bare one sends the
// same bytes to the same receiver, 1 MiB at a time on one connection.
func BenchmarkOutlets(b *testing.B) {
	const records = 300_000
	data := corpus(records)
	sink, err := net.Listen("tcp", "127.0.0.1:0")
	check(b, err)
	defer sink.Close()
	go func() {
		for {
			conn, err := sink.Accept()
			if err != nil {
				return
			}
			go io.Copy(io.Discard, conn)
		}
	}()
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) }))
	defer web.Close()
	stream := func() time.Duration {
		conn, err := net.Dial("tcp", sink.Addr().String())
		check(b, err)
		defer conn.Close()
		start := time.Now()
		_, err = conn.Write(data)
		check(b, err)
		return time.Since(start)
	}
	posts := func() time.Duration {
		start := time.Now()
		for rest := data; len(rest) > 0; {
			n := min(len(rest), 1<<20)
			response, err := http.Post(web.URL, "application/octet-stream", bytes.NewReader(rest[:n]))
			check(b, err)
			response.Body.Close()
			rest = rest[n:]
		}
		return time.Since(start)
	}
	for _, c := range []struct {
		name, outlet string
		bare         func() time.Duration
	}{
		{"syslog", fmt.Sprintf(`syslog: {tcp: "%s"}`, sink.Addr()), stream},
		{"http", fmt.Sprintf(`http: {url: "%s"}`, web.URL), posts},
		{"otlp", fmt.Sprintf(`otlp: {url: "%s"}`, web.URL), posts},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				bare, ours, ratio := pair(3, c.bare, func() time.Duration { return forward(b, data, records, c.outlet) })
				report(b, records, bare, ours, ratio)
				b.ReportMetric(float64(len(data))/1e6/ours.Seconds(), "MB/s")
			}
		})
	}
}

// forward starts an agent on a file with the data, and returns how long it takes
// until an outlet has delivered all of it.
func forward(b *testing.B, data []byte, records int64, outlet string) time.Duration {
	dir, err := os.MkdirTemp("", "ob")
	check(b, err)
	defer os.RemoveAll(dir)
	path := func(name string) string { return filepath.Join(dir, name) }
	check(b, os.WriteFile(path("lines.log"), data, 0o600))
	check(b, os.WriteFile(path("plan.yaml"), fmt.Appendf(nil, `oakbarrel: 1
disk: {floor: 0}
intakes: {lines: {files: {paths: ["%s"], decode: syslog}}}
otherwise: {send: [there]}
outlets: {there: {%s, spool: {disk: 1GiB, overflow: wait}, batch: {wait: 20ms}}}
`, path("lines.log"), outlet), 0o600))
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	start := time.Now()
	go func() {
		ended <- agent.Run(ctx, agent.Options{PlanFile: path("plan.yaml"), StateDir: path("state"), Log: slog.New(slog.DiscardHandler), Ready: func() { close(ready) }})
	}()
	<-ready
	for {
		s, err := agent.AskStatus(ctx, path("state"))
		check(b, err)
		if s.Outlets[0].Out == records {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(start)
	cancel()
	<-ended
	return took
}
