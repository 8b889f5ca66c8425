package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploggrpc"
	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploghttp"
	"go.opentelemetry.io/otel/log"
	sdk "go.opentelemetry.io/otel/sdk/log"
	"google.golang.org/grpc/credentials"
)

const otlpPlan = `oakbarrel: 1
host: kelp-01
intakes: {apps: {otlp: {http: "127.0.0.1:0", default: local3.info}}}
rules: [{name: faults, when: 'severity at least error and field order.id >= 100', send: [faults, all]}]
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
  faults: {file: {path: DIR/faults.log, format: rfc5424, keep: forever}}
`

// What the official exporter sends arrives complete.
func TestTheOpenTelemetryExporter(t *testing.T) {
	h := newHost(t, otlpPlan)
	h.start()
	ctx := context.Background()
	for _, compression := range []otlploghttp.Compression{otlploghttp.NoCompression, otlploghttp.GzipCompression} {
		exporter, err := otlploghttp.New(ctx, otlploghttp.WithEndpoint(h.address("http")), otlploghttp.WithInsecure(), otlploghttp.WithCompression(compression))
		if err != nil {
			t.Fatal(err)
		}
		provider := sdk.NewLoggerProvider(sdk.WithProcessor(sdk.NewBatchProcessor(exporter)))
		logger := provider.Logger("sale")
		for i := range 500 {
			var r log.Record
			r.SetTimestamp(time.Unix(1795601700, int64(i)))
			r.SetSeverity(log.SeverityError)
			r.SetBody(attribute.StringValue(fmt.Sprintf("order %d failed", i)))
			r.AddAttributes(attribute.Int("order.id", i), attribute.Bool("card", i%2 == 0))
			logger.Emit(ctx, r)
		}
		if err := provider.Shutdown(ctx); err != nil {
			t.Fatal(err)
		}
	}
	got := h.written(1000)
	h.waitForLines("faults.log", 800)
	for i := range 500 {
		if n := strings.Count(got, fmt.Sprintf(`"text":"order %d failed"`, i)); n != 2 {
			t.Fatalf("order %d is there %d times", i, n)
		}
	}
	for _, want := range []string{`"time":"2026-11-25T10:15:00.000000007Z"`, `"facility":"local3","severity":"error"`, `"order.id":7,"card":false`, `"peer":{"address":"127.0.0.1:`, `"intake":"apps"`} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is missing: %.600s", want, got)
		}
	}
	if first := h.lines("faults.log")[0]; !strings.Contains(first, `order.id="100" card="true"`) {
		t.Errorf("as RFC 5424: %s", first)
	}
	if s := h.status(); s.Intakes[0].Read != 1000 || s.Intakes[0].Kind != "otlp" {
		t.Errorf("%+v", s.Intakes)
	}
}

func TestExportRequestsOfEveryKind(t *testing.T) {
	h := newHost(t, otlpPlan)
	h.start()
	post := func(path, media, coding string, body []byte) (int, string) {
		t.Helper()
		request, _ := http.NewRequest("POST", "http://"+h.address("http")+path, bytes.NewReader(body))
		request.Header.Set("Content-Type", media)
		if coding != "" {
			request.Header.Set("Content-Encoding", coding)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		b, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(b)
	}
	pack := func(b []byte) []byte {
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		w.Write(b)
		w.Close()
		return packed.Bytes()
	}
	one := []byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"by hand"}}]}]}]}`)
	partial := []byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"timeUnixNano":"18446744073709551615"},{"body":{"stringValue":"the good one"}}]}]}]}`)
	for _, c := range []struct {
		what, path, media, coding string
		body                      []byte
		status                    int
		answer                    string
	}{
		{"JSON", "/v1/logs", "application/json; charset=utf-8", "", one, 200, "{}"},
		{"gzip", "/v1/logs", "application/json", "gzip", pack(one), 200, "{}"},
		{"nothing", "/v1/logs", "application/x-protobuf", "", nil, 200, ""},
		{"one that is refused", "/v1/logs", "application/json", "", partial, 200, `{"partialSuccess":{"rejectedLogRecords":"1"`},
		{"no JSON", "/v1/logs", "application/json", "", []byte("{"), 400, `{"message":"the body is no export request`},
		{"no protobuf", "/v1/logs", "application/x-protobuf", "", one, 400, "\x12"},
		{"no gzip", "/v1/logs", "application/json", "gzip", one, 400, "the body is not gzip"},
		{"a bomb", "/v1/logs", "application/json", "gzip", pack(make([]byte, 20<<20)), 413, "at most 16 MiB"},
		{"another coding", "/v1/logs", "application/json", "br", one, 415, "gzip alone"},
		{"another form", "/v1/logs", "text/plain", "", one, 415, "application/x-protobuf or application/json"},
		{"another address", "/v1/traces", "application/json", "", one, 404, ""},
	} {
		if status, answer := post(c.path, c.media, c.coding, c.body); status != c.status || !strings.Contains(answer, c.answer) {
			t.Errorf("%s: %d %q", c.what, status, answer)
		}
	}
	h.written(3)
	if in := h.status().Intakes[0]; in.Read != 4 || in.Passed != 3 || in.Unreadable != 1 {
		t.Errorf("%+v", in)
	}
}

// exportBy sends records by the official exporter over gRPC, and returns its error.
func exportBy(t *testing.T, n int, options ...otlploggrpc.Option) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	exporter, err := otlploggrpc.New(ctx, append(options, otlploggrpc.WithRetry(otlploggrpc.RetryConfig{}))...)
	if err != nil {
		t.Fatal(err)
	}
	defer exporter.Shutdown(ctx)
	provider := sdk.NewLoggerProvider(sdk.WithProcessor(sdk.NewSimpleProcessor(exporter)))
	logger := provider.Logger("sale")
	var failed error
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { failed = err }))
	for i := range n {
		var r log.Record
		r.SetSeverity(log.SeverityWarn)
		r.SetBody(attribute.StringValue(fmt.Sprintf("order %d is late", i)))
		logger.Emit(ctx, r)
	}
	return failed
}

// What the official exporter sends over gRPC arrives, plain and packed, in the clear and
// with TLS; and nobody is let in without the token.
func TestTheOpenTelemetryExporterOverGRPC(t *testing.T) {
	const open = `otlp: {http: "127.0.0.1:0", grpc: "127.0.0.1:0"}`
	h := newHost(t, strings.Replace(otlpPlan, `otlp: {http: "127.0.0.1:0", default: local3.info}`, open, 1))
	h.start()
	for _, options := range [][]otlploggrpc.Option{nil, {otlploggrpc.WithCompressor("gzip")}} {
		if err := exportBy(t, 20, append(options, otlploggrpc.WithEndpoint(h.address("grpc")), otlploggrpc.WithInsecure())...); err != nil {
			t.Fatal(err)
		}
	}
	got := h.written(40)
	if n := strings.Count(got, `"text":"order 7 is late"`); n != 2 || !strings.Contains(got, `"severity":"warning","host":"kelp-01","agent":"kelp-01"`) {
		t.Errorf("order 7 is there %d times: %.400s", n, got)
	}
	pool := x509.NewCertPool()
	certificate(t, h.dir)
	pem, err := os.ReadFile(filepath.Join(h.dir, "lantern.pem"))
	if err != nil || !pool.AppendCertsFromPEM(pem) {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(h.dir, "token"), []byte("seahorse\n"), 0o600)
	h.setPlan(strings.Replace(otlpPlan, `otlp: {http: "127.0.0.1:0", default: local3.info}`, `otlp: {http: "127.0.0.1:0", grpc: "127.0.0.1:0", certificate: lantern.pem, key_file: lantern.key, clients: anyone, token_file: DIR/token}`, 1))
	h.reload()
	trust := otlploggrpc.WithTLSCredentials(credentials.NewClientTLSFromCert(pool, ""))
	to := otlploggrpc.WithEndpoint(h.address("grpcs"))
	if err := exportBy(t, 1, to, trust); err == nil || !strings.Contains(err.Error(), "a token is needed") {
		t.Errorf("without a token: %v", err)
	}
	if err := exportBy(t, 1, to, trust, otlploggrpc.WithHeaders(map[string]string{"authorization": "Bearer nonsense"})); err == nil {
		t.Error("a wrong token is taken")
	}
	if err := exportBy(t, 5, to, trust, otlploggrpc.WithHeaders(map[string]string{"authorization": "Bearer seahorse"})); err != nil {
		t.Errorf("with the token: %v", err)
	}
	h.written(45)
	exporter, err := otlploghttp.New(context.Background(), otlploghttp.WithEndpoint(h.address("https")), otlploghttp.WithTLSClientConfig(&tls.Config{RootCAs: pool}), otlploghttp.WithHeaders(map[string]string{"Authorization": "Bearer seahorse"}))
	if err != nil {
		t.Fatal(err)
	}
	provider := sdk.NewLoggerProvider(sdk.WithProcessor(sdk.NewSimpleProcessor(exporter)))
	provider.Logger("sale").Emit(context.Background(), log.Record{})
	h.written(46)
	if s := h.status(); s.Intakes[0].TurnedAway != 2 {
		t.Errorf("%d are turned away", s.Intakes[0].TurnedAway)
	}
}
