package e2e

import (
	"bufio"
	"compress/gzip"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"google.golang.org/protobuf/proto"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// receiver notes the texts that have come, by what has brought them.
type receiver struct {
	mu    sync.Mutex
	texts map[string]int
	heads []http.Header
	bad   []string      // what could not be read
	fail  []http.Header // the next requests are refused: the status in "Status", and other headers
}

func (r *receiver) took(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.texts == nil {
		r.texts = map[string]int{}
	}
	r.texts[text]++
}

func (r *receiver) trouble(format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.bad = append(r.bad, fmt.Sprintf(format, args...))
}

func (r *receiver) distinct() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.texts)
}

// syslog takes counted messages from connections until the test ends.
func (r *receiver) syslog(t *testing.T, l net.Listener) {
	t.Cleanup(func() { l.Close() })
	var parser wire.Parser
	var mu sync.Mutex
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				in := bufio.NewReader(conn)
				for {
					count, err := in.ReadString(' ')
					if err != nil {
						return
					}
					n, err := strconv.Atoi(strings.TrimSpace(count))
					message := make([]byte, max(0, n))
					if err != nil {
						r.trouble("not counted: %q", count)
						return
					}
					if _, err := io.ReadFull(in, message); err != nil {
						return // the connection was cut
					}
					mu.Lock()
					var rec record.Record
					parser.Parse(&rec, message)
					r.took(string(rec.Text))
					mu.Unlock()
				}
			}()
		}
	}()
}

// refuses answers a request as fail has it.
func (r *receiver) refuses(w http.ResponseWriter) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.fail) == 0 {
		return false
	}
	for name, values := range r.fail[0] {
		w.Header()[name] = values
	}
	status, _ := strconv.Atoi(r.fail[0].Get("Status"))
	w.WriteHeader(status)
	r.fail = r.fail[1:]
	return true
}

// ServeHTTP takes batches of the OpenTelemetry protocol and of JSON lines.
func (r *receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body := q.Body
	if q.Header.Get("Content-Encoding") == "gzip" {
		unpacked, err := gzip.NewReader(q.Body)
		if err != nil {
			r.trouble("%v", err)
			w.WriteHeader(400)
			return
		}
		body = unpacked
	}
	b, err := io.ReadAll(body)
	if err != nil || r.refuses(w) {
		return
	}
	r.mu.Lock()
	r.heads = append(r.heads, q.Header)
	r.mu.Unlock()
	if q.Header.Get("Content-Type") == "application/x-protobuf" {
		r.otlp(w, b)
		return
	}
	for line := range strings.Lines(string(b)) {
		var rec struct{ Text string }
		if json.Unmarshal([]byte(line), &rec) != nil {
			r.trouble("%q is no JSON", line)
		}
		r.took(rec.Text)
	}
}

func (r *receiver) otlp(w http.ResponseWriter, body []byte) {
	var request collector.ExportLogsServiceRequest
	if err := proto.Unmarshal(body, &request); err != nil {
		r.trouble("%v", err)
		w.WriteHeader(400)
		return
	}
	rejected := int64(0)
	for _, resource := range request.ResourceLogs {
		for _, scope := range resource.ScopeLogs {
			for _, l := range scope.LogRecords {
				if text := l.Body.GetStringValue(); !strings.HasPrefix(text, "line ") {
					rejected++
				} else {
					r.took(text)
				}
				if l.SeverityNumber != logs.SeverityNumber_SEVERITY_NUMBER_WARN {
					r.trouble("severity %v", l.SeverityNumber)
				}
			}
		}
	}
	answer, _ := proto.Marshal(&collector.ExportLogsServiceResponse{PartialSuccess: &collector.ExportLogsPartialSuccess{RejectedLogRecords: rejected, ErrorMessage: "no line"}})
	w.Write(answer)
}

// all tells whether each of n lines has come.
func (r *receiver) all(t *testing.T, what string, n int) {
	t.Helper()
	r.mu.Lock()
	defer r.mu.Unlock()
	missing, twice := 0, 0
	for i := range n {
		switch times := r.texts[fmt.Sprintf("line %d", i)]; {
		case times == 0:
			missing++
		case times > 1:
			twice++
		}
	}
	if missing > 0 || len(r.bad) > 0 {
		t.Errorf("%s: %d of %d lines are missing: %q", what, missing, n, r.bad)
	}
	t.Logf("%s: %d of %d lines came more than once", what, twice, n)
}

// A followed file goes to receivers of syslog over TLS, of the OpenTelemetry
// protocol and of plain HTTP, which all lose connections and refuse for a
// while, while the agent is killed. Each gets all of it.
func TestAFollowedFileGoesToOtherReceivers(t *testing.T) {
	dir := t.TempDir()
	print := certificate(t, dir)
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "lantern.pem"), filepath.Join(dir, "lantern.key"))
	if err != nil {
		t.Fatal(err)
	}
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	var bySyslog, byOTLP, byHTTP receiver
	bySyslog.syslog(t, listener)
	otlp, plain := httptest.NewServer(&byOTLP), httptest.NewServer(&byHTTP)
	defer otlp.Close()
	defer plain.Close()
	busy := http.Header{"Status": {"429"}, "Retry-After": {"1"}}
	byOTLP.fail = []http.Header{busy, {"Status": {"503"}}}
	byHTTP.fail = []http.Header{{"Status": {"500"}}, busy}

	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: reef-02
intakes:
  pumps: {files: {paths: ["DIR/pumps.log"], wait: 200ms}, label: {severity: warning, app: pumpd}}
otherwise: {send: [relay, traces, lake]}
outlets:
  relay: {syslog: {tls: "%s", fingerprint: "%s"}, batch: {records: 100, wait: 20ms}}
  traces: {otlp: {url: "%s/v1/logs"}, batch: {records: 100, wait: 20ms}}
  lake: {http: {url: "%s/in", token_file: DIR/token, headers: {X-Feed: '{host}/{outlet} {first}-{last}'}}, batch: {records: 100, wait: 20ms}}
`, listener.Addr(), print, otlp.URL, plain.URL))
	os.WriteFile(filepath.Join(h.dir, "token"), []byte("seahorse\n"), 0o600)
	h.start()
	n := 0
	write := func(lines int) {
		var b strings.Builder
		for range lines {
			fmt.Fprintf(&b, "line %d\n", n)
			n++
		}
		f, err := os.OpenFile(filepath.Join(h.dir, "pumps.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		f.WriteString(b.String())
	}
	for range 4 {
		write(700)
		time.Sleep(150 * time.Millisecond)
		otlp.CloseClientConnections()
		plain.CloseClientConnections()
		h.kill()
		write(100)
		h.start()
	}
	for what, r := range map[string]*receiver{"syslog": &bySyslog, "otlp": &byOTLP, "http": &byHTTP} {
		h.eventually("all lines have come by "+what, func() bool { return r.distinct() >= n })
		r.all(t, what, n)
	}
	h.eventually("nothing waits", func() bool {
		for _, o := range h.status().Outlets {
			if o.Held > 0 {
				return false
			}
		}
		return true
	})
	head := byHTTP.heads[0]
	if head.Get("Authorization") != "Bearer seahorse" || !strings.HasPrefix(head.Get("X-Feed"), "reef-02/lake 1-") {
		t.Errorf("the headers are %v", head)
	}
}

// What a receiver refuses in part is counted as refused, and the rest goes on.
func TestAReceiverRefusesSomeRecords(t *testing.T) {
	var r receiver
	server := httptest.NewServer(&r)
	defer server.Close()
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
intakes:
  local: {syslog: {socket: DIR/log}}
otherwise: {send: [traces]}
outlets:
  traces: {otlp: {url: "%s"}, batch: {wait: 20ms}}
`, server.URL))
	h.start()
	h.send("unix", "<12>app: line 0", "<12>app: other", "<12>app: line 1")
	h.eventually("all is sent", func() bool { o := h.status().Outlets[0]; return o.In == 3 && o.Held == 0 })
	if o := h.status().Outlets[0]; o.Out != 2 || o.Refused != 1 || o.Kind != "otlp" || o.Path != server.URL {
		t.Errorf("%+v", o)
	}
	r.all(t, "otlp", 2)
}

// Messages go by UDP and by counted TCP into another agent, as they were.
func TestSyslogFromOneAgentToAnother(t *testing.T) {
	to := newHost(t, `oakbarrel: 1
intakes:
  wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: rfc5424, keep: forever}}
`)
	to.start()
	from := newHost(t, fmt.Sprintf(`oakbarrel: 1
intakes:
  local: {syslog: {socket: DIR/log}}
rules:
  - {when: app is a, send: [udp], then: done}
otherwise: {send: [tcp]}
outlets:
  udp: {syslog: {udp: "%s"}, batch: {wait: 20ms}}
  tcp: {syslog: {tcp: "%s"}, batch: {wait: 20ms}}
`, to.address("udp"), to.address("tcp")))
	from.start()
	const first = `<131>1 2026-11-25T10:15:00.5+01:00 reef-02 a 7 M [tank@32473 ph="8.1"] one`
	const second = `<131>1 2026-11-25T10:15:01Z reef-02 b - - - two`
	from.send("unix", first, second)
	got := strings.Join(to.waitForLines("all.log", 2), "|")
	if !strings.Contains(got, first) || !strings.Contains(got, second) {
		t.Errorf("got %s", got)
	}
	to.stop()
	from.send("unix", `<131>1 2026-11-25T10:15:02Z reef-02 b - - - three`)
	from.eventually("status says why", func() bool {
		o := from.status().Outlets[1]
		return strings.Contains(o.Trouble, "cannot be reached") && o.NextTry != nil && o.HeldSince != nil && o.Held == 1
	})
}
