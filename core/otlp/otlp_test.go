package otlp

import (
	"math"
	"strings"
	"testing"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/proto"

	"oakbarrel/core/record"
)

var settings = Settings{Default: record.DefaultPriority, Received: record.StampOf(time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC))}

func decode(t testing.TB, body []byte, isJSON bool) (lines []string, refused int, why string) {
	t.Helper()
	refused, why, err := Decode(body, isJSON, settings, func(r *record.Record) { lines = append(lines, string(r.AppendJSON(nil))) })
	if err != nil {
		t.Fatal(err)
	}
	return lines, refused, why
}

func TestRecordsInJSON(t *testing.T) {
	lines, refused, _ := decode(t, []byte(`{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"ticketd"}},{"key":"host.name","value":{"stringValue":"kelp-01"}},{"key":"zone","value":{"stringValue":"east"}}]},
"scopeLogs":[{"scope":{"name":"sale"},"logRecords":[
{"timeUnixNano":"1795601700000000123","severityNumber":17,"severityText":"ERROR","body":{"stringValue":"order failed"},"traceId":"5B8EFFF798038103D269B633813FC60C","spanId":"EEE19B7EC3C1B174",
 "attributes":[{"key":"order.id","value":{"intValue":"9007199254740993"}},{"key":"tags","value":{"arrayValue":{"values":[{"boolValue":true},{"doubleValue":1.5},{"bytesValue":"AAE="}]}}},{"key":"order.id","value":{"intValue":7}}],"unknownField":1},
{"observedTimeUnixNano":"1795601700000000000","severityNumber":24,"severityText":"emerg","body":{"kvlistValue":{"values":[{"key":"a","value":{"stringValue":"b"}},{"key":"none","value":{}}]}}},
{}]}]}]}`), true)
	want := []string{
		`{"time":"2026-11-25T10:15:00.000000123Z","received":"2026-11-25T10:15:00Z","facility":"user","severity":"error","host":"kelp-01","app":"ticketd","text":"order failed","fields":{"zone":"east","otel.scope.name":"sale","order.id":7,"tags":[true,1.5,"AAE="],"trace_id":"5B8EFFF798038103D269B633813FC60C","span_id":"EEE19B7EC3C1B174"}}`,
		`{"time":"2026-11-25T10:15:00Z","received":"2026-11-25T10:15:00Z","facility":"user","severity":"emergency","host":"kelp-01","app":"ticketd","text":"{\"a\":\"b\",\"none\":null}","fields":{"zone":"east","otel.scope.name":"sale","body":{"a":"b","none":null}}}`,
		`{"time":"2026-11-25T10:15:00Z","received":"2026-11-25T10:15:00Z","facility":"user","severity":"notice","host":"kelp-01","app":"ticketd","fields":{"zone":"east","otel.scope.name":"sale"}}`,
	}
	if refused != 0 || strings.Join(lines, "\n") != strings.Join(want, "\n") {
		t.Errorf("refused %d\n got %s\nwant %s", refused, strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
}

func text(s string) *common.AnyValue {
	return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: s}}
}

func TestRecordsInProtobuf(t *testing.T) {
	deep := text("x")
	for range 40 {
		deep = &common.AnyValue{Value: &common.AnyValue_ArrayValue{ArrayValue: &common.ArrayValue{Values: []*common.AnyValue{deep}}}}
	}
	body, err := proto.Marshal(&logs.LogsData{ResourceLogs: []*logs.ResourceLogs{{
		Resource: &resource.Resource{Attributes: []*common.KeyValue{{Key: "service.name", Value: text("pumpd")}}},
		ScopeLogs: []*logs.ScopeLogs{{LogRecords: []*logs.LogRecord{
			{TimeUnixNano: 1795601700e9, SeverityNumber: 9, Body: text("run"), TraceId: []byte{1, 0xab}, Attributes: []*common.KeyValue{{Key: "nan", Value: &common.AnyValue{Value: &common.AnyValue_DoubleValue{DoubleValue: math.NaN()}}}}},
			{Body: deep},
			{TimeUnixNano: math.MaxUint64},
		}}},
	}}})
	if err != nil {
		t.Fatal(err)
	}
	lines, refused, why := decode(t, body, false)
	if len(lines) != 1 || refused != 2 || why == "" || !strings.HasSuffix(lines[0], `"severity":"info","app":"pumpd","text":"run","fields":{"nan":"NaN","trace_id":"01ab"}}`) {
		t.Errorf("%v, %d refused: %s", lines, refused, why)
	}
	if _, _, err := Decode([]byte("no protobuf"), false, settings, nil); err == nil {
		t.Error("what is no request is taken")
	}
}

func TestSeverities(t *testing.T) {
	d := decoder{Settings: settings}
	for _, c := range []struct {
		number int32
		text   string
		want   record.Severity
	}{{0, "", record.Notice}, {0, "warn", record.Warning}, {0, "loud", record.Notice}, {1, "", record.Debug}, {8, "", record.Debug}, {9, "ERROR", record.Info}, {10, "", record.Notice}, {13, "", record.Warning}, {17, "", record.Error}, {18, "", record.Critical}, {19, "", record.Alert}, {21, "", record.Critical}, {24, "EMERG", record.Emergency}, {99, "", record.Notice}} {
		if got := d.severity(c.number, c.text); got != c.want {
			t.Errorf("%d %q is %v, want %v", c.number, c.text, got, c.want)
		}
	}
}

func TestResponses(t *testing.T) {
	if got := string(Response(true, 0, "")); got != "{}" {
		t.Error(got)
	}
	if got := string(Response(true, 3, `too "deep"`)); got != `{"partialSuccess":{"rejectedLogRecords":"3","errorMessage":"too \"deep\""}}` {
		t.Error(got)
	}
	if got := Response(false, 0, ""); len(got) != 0 {
		t.Errorf("%x", got)
	}
	if got := string(Response(false, 3, "why")); got != "\x0a\x07\x08\x03\x12\x03why" {
		t.Errorf("%q", got)
	}
}

func TestWhatAReceiverHasRefused(t *testing.T) {
	for _, c := range []struct {
		response []byte
		records  int64
		why      string
	}{
		{nil, 0, ""},
		{Response(false, 3, "too deep"), 3, "too deep"},
		{Response(false, 3, "too deep")[:8], 0, ""},
		{[]byte("\x0a\x0b\x08\xff\xff\xff\xff\xff\xff\xff\xff\xff\x01"), 0, ""}, // less than none
		{[]byte("<html>"), 0, ""},
	} {
		if records, why := Refused(c.response); records != c.records || why != c.why {
			t.Errorf("%q: got %d, %q", c.response, records, why)
		}
	}
}

func FuzzRefused(f *testing.F) {
	f.Add(Response(false, 3, "why"))
	f.Fuzz(func(t *testing.T, response []byte) {
		if records, _ := Refused(response); records < 0 {
			t.Errorf("%q gives %d", response, records)
		}
	})
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"x"},"attributes":[{"key":"a","value":{"intValue":"1"}}]}]}]}]}`), true)
	f.Fuzz(func(t *testing.T, body []byte, isJSON bool) {
		Decode(body, isJSON, settings, func(r *record.Record) {
			if r.Data != nil && !new(record.DataChecker).Valid(r.Data) {
				t.Errorf("%q gives %s", body, r.Data)
			}
		})
	})
}
