package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploghttp"
	"go.opentelemetry.io/otel/log"
	sdk "go.opentelemetry.io/otel/sdk/log"
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
