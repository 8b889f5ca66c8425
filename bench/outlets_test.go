package bench

import (
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
	"oakbarrel/agent/control"
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
	posts := func() time.Duration { return post(b, web.URL, data) }
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
				bare, ours, ratio := pair(3, c.bare, func() time.Duration {
					return forward(b, data, "", c.outlet, func(state string) bool {
						s, err := control.AskStatus(context.Background(), state)
						return err == nil && len(s.Outlets) > 0 && s.Outlets[0].Out == records
					})
				})
				report(b, records, bare, ours, ratio)
				b.ReportMetric(float64(len(data))/1e6/ours.Seconds(), "MB/s")
			}
		})
	}
}

// forward starts an agent that follows a file with the data into an outlet, which
// may need a service, and returns how long it takes until all has arrived, for
// which it looks again and again.
func forward(b *testing.B, data []byte, service, outlet string, arrived func(state string) bool) time.Duration {
	dir, err := os.MkdirTemp("", "ob") // the path of a socket must be short
	check(b, err)
	defer os.RemoveAll(dir)
	path := func(name string) string { return filepath.Join(dir, name) }
	check(b, os.WriteFile(path("lines.log"), data, 0o600))
	check(b, os.WriteFile(path("plan.yaml"), fmt.Appendf(nil, `oakbarrel: 1
%s
disk: {floor: 0}
intakes: {lines: {files: {paths: ["%s"], decode: syslog}}}
otherwise: {send: [there]}
outlets: {there: {%s, spool: {disk: 1GiB, overflow: wait}, batch: {wait: 20ms}}}
`, service, path("lines.log"), outlet), 0o600))
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	start := time.Now()
	go func() {
		ended <- agent.Run(ctx, agent.Options{PlanFile: path("plan.yaml"), StateDir: path("state"), Log: slog.New(slog.DiscardHandler), Ready: func() {}})
	}()
	for !arrived(path("state")) {
		time.Sleep(25 * time.Millisecond)
	}
	took := time.Since(start)
	cancel()
	<-ended
	return took
}
