// Package otlp reads log records as OpenTelemetry sends them over HTTP: it
// turns an export request, in protobuf or JSON, into records. It does no input
// or output itself.
//
// Its central function is [Decode].
package otlp

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"google.golang.org/protobuf/encoding/protowire"

	"oakbarrel/core/record"
)

// Settings says what stands in for what a log record does not say.
type Settings struct {
	Default  record.Priority
	Received record.Stamp
}

// maxDepth bounds how deep values may be nested; a log record with more is refused.
const maxDepth = 32

// Decode reads an ExportLogsServiceRequest and calls each with every record.
// The record's slices are its own. Refused counts those that cannot be taken,
// and why tells the reason of the last. An error says that the body cannot be
// read as a whole; then, of protobuf, no record was given.
func Decode(body []byte, isJSON bool, s Settings, each func(r *record.Record)) (refused int, why string, err error) {
	split := splitProto
	if isJSON {
		split = splitJSON
	}
	err = split(body, func(g shared, l *logs.LogRecord, err error) {
		d := decoder{Settings: s, isJSON: isJSON, resource: g.resource, scope: g.scope}
		var r *record.Record
		if err == nil {
			r, err = d.record(l)
		}
		if err != nil {
			refused, why = refused+1, err.Error()
			return
		}
		each(r)
	})
	if err != nil {
		err = fmt.Errorf("the body is no export request of logs: %w", err)
	}
	return refused, why, err
}

type decoder struct {
	Settings
	isJSON   bool
	resource []*common.KeyValue
	scope    *common.InstrumentationScope
}

// severities of the log data model's numbers, 0 to 24; 0 is not used.
var severities = func() (t [25]record.Severity) {
	for n := range t {
		switch {
		case n <= 8:
			t[n] = record.Debug
		case n == 9:
			t[n] = record.Info
		case n <= 12:
			t[n] = record.Notice
		case n <= 16:
			t[n] = record.Warning
		case n == 17:
			t[n] = record.Error
		case n == 18:
			t[n] = record.Critical
		case n <= 20:
			t[n] = record.Alert
		default:
			t[n] = record.Critical
		}
	}
	return
}()

func (d *decoder) severity(number int32, text string) record.Severity {
	named, known := record.ParseSeverity(text)
	switch {
	case number >= 1 && int(number) < len(severities):
		if number > 20 && known && named == record.Emergency {
			return named
		}
		return severities[number]
	case known:
		return named
	}
	return d.Default.Severity()
}

func (d *decoder) record(l *logs.LogRecord) (*record.Record, error) {
	r := &record.Record{Received: d.Received, Priority: record.MakePriority(d.Default.Facility(), d.severity(int32(l.GetSeverityNumber()), l.GetSeverityText()))}
	r.Time = d.Received
	for _, nanos := range []uint64{l.GetTimeUnixNano(), l.GetObservedTimeUnixNano()} {
		if nanos == 0 {
			continue
		}
		if nanos > math.MaxInt64 {
			return nil, errors.New("the time of a record is behind the year 2262")
		}
		r.Time = record.StampOf(time.Unix(0, int64(nanos)).UTC())
		break
	}
	fields := object{}
	if err := fields.addAll(d.resource, r, true); err != nil {
		return nil, err
	}
	if name := d.scope.GetName(); name != "" {
		fields.addText("otel.scope.name", name)
	}
	if err := fields.addAll(d.scope.GetAttributes(), r, false); err != nil {
		return nil, err
	}
	if err := fields.addAll(l.GetAttributes(), r, false); err != nil {
		return nil, err
	}
	if l.GetEventName() != "" {
		fields.addText("event_name", l.GetEventName())
	}
	if id := d.id(l.GetTraceId()); id != "" {
		fields.addText("trace_id", id)
	}
	if id := d.id(l.GetSpanId()); id != "" {
		fields.addText("span_id", id)
	}
	if body := l.GetBody(); body != nil {
		if text, ok := body.GetValue().(*common.AnyValue_StringValue); ok {
			r.Text = []byte(text.StringValue)
		} else {
			value, err := appendValue(nil, body, 0)
			if err != nil {
				return nil, err
			}
			r.Text = value // for people; and as a field, for programs
			fields.add("body", value)
		}
	}
	r.SetData(fields.bytes())
	return r, nil
}

// id writes the id of a trace or a span in hexadecimal. In JSON it came so, and
// was read as if it were base64.
func (d *decoder) id(id []byte) string {
	if d.isJSON {
		return base64.StdEncoding.EncodeToString(id)
	}
	return fmt.Sprintf("%x", id)
}

// object is a JSON object under way. A name that repeats is written once, as it came last.
type object struct {
	names  []string
	values map[string][]byte
}

func (o *object) add(name string, value []byte) {
	if o.values == nil {
		o.values = map[string][]byte{}
	}
	if _, known := o.values[name]; !known {
		o.names = append(o.names, name)
	}
	o.values[name] = value
}

func (o *object) addText(name, text string) { o.add(name, record.AppendJSONString(nil, []byte(text))) }

// addAll adds attributes; those of a resource that name its program and host
// are properties of the record.
func (o *object) addAll(attributes []*common.KeyValue, r *record.Record, resource bool) error {
	for _, a := range attributes {
		text := a.GetValue().GetStringValue()
		switch {
		case resource && a.GetKey() == "service.name" && text != "":
			r.App = []byte(text)
			continue
		case resource && a.GetKey() == "host.name" && text != "":
			r.Host = []byte(text)
			continue
		}
		value, err := appendValue(nil, a.GetValue(), 0)
		if err != nil {
			return err
		}
		o.add(a.GetKey(), value)
	}
	return nil
}

// bytes returns the object, nil where it is empty.
func (o *object) bytes() []byte {
	if len(o.names) == 0 {
		return nil
	}
	b := []byte{'{'}
	for i, name := range o.names {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(record.AppendJSONString(b, []byte(name)), ':')
		b = append(b, o.values[name]...)
	}
	return append(b, '}')
}

// appendValue writes a value as JSON: bytes in base64, whole numbers with all
// their digits, what is no number in JSON as a text.
func appendValue(dst []byte, v *common.AnyValue, depth int) ([]byte, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("the values of a record are nested deeper than %d", maxDepth)
	}
	switch v := v.GetValue().(type) {
	case *common.AnyValue_StringValue:
		return record.AppendJSONString(dst, []byte(v.StringValue)), nil
	case *common.AnyValue_BoolValue:
		return strconv.AppendBool(dst, v.BoolValue), nil
	case *common.AnyValue_IntValue:
		return strconv.AppendInt(dst, v.IntValue, 10), nil
	case *common.AnyValue_DoubleValue:
		if math.IsNaN(v.DoubleValue) || math.IsInf(v.DoubleValue, 0) {
			return fmt.Appendf(dst, "%q", strconv.FormatFloat(v.DoubleValue, 'g', -1, 64)), nil
		}
		return appendNumber(dst, v.DoubleValue)
	case *common.AnyValue_BytesValue:
		dst = append(dst, '"')
		return append(base64.StdEncoding.AppendEncode(dst, v.BytesValue), '"'), nil
	case *common.AnyValue_ArrayValue:
		dst = append(dst, '[')
		for i, e := range v.ArrayValue.GetValues() {
			if i > 0 {
				dst = append(dst, ',')
			}
			var err error
			if dst, err = appendValue(dst, e, depth+1); err != nil {
				return nil, err
			}
		}
		return append(dst, ']'), nil
	case *common.AnyValue_KvlistValue:
		o := object{}
		for _, e := range v.KvlistValue.GetValues() {
			value, err := appendValue(nil, e.GetValue(), depth+1)
			if err != nil {
				return nil, err
			}
			o.add(e.GetKey(), value)
		}
		if b := o.bytes(); b != nil {
			return append(dst, b...), nil
		}
		return append(dst, "{}"...), nil
	}
	return append(dst, "null"...), nil
}

func appendNumber(dst []byte, f float64) ([]byte, error) {
	b, err := json.Marshal(f)
	return append(dst, b...), err
}

// Response returns the body of an ExportLogsServiceResponse. Where records were
// refused it is a partial success.
func Response(isJSON bool, refused int, why string) []byte {
	if isJSON {
		if refused == 0 {
			return []byte("{}")
		}
		return fmt.Appendf(nil, `{"partialSuccess":{"rejectedLogRecords":"%d","errorMessage":%s}}`, refused, record.AppendJSONString(nil, []byte(why)))
	}
	if refused == 0 {
		return nil
	}
	partial := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), uint64(refused))
	partial = protowire.AppendString(protowire.AppendTag(partial, 2, protowire.BytesType), strings.ToValidUTF8(why, "?"))
	return protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), partial)
}

// Refused reads the body of an ExportLogsServiceResponse in protobuf: how many
// records the receiver has refused of a partial success, and why. What cannot be
// read refuses none.
func Refused(response []byte) (records int64, why string) {
	partial, err := merged(response, 1)
	if err != nil {
		return 0, ""
	}
	text, err := merged(partial, 2)
	if err != nil {
		return 0, ""
	}
	for len(partial) > 0 { // all of it can be read
		number, kind, size := protowire.ConsumeField(partial)
		if number == 1 && kind == protowire.VarintType {
			_, _, tag := protowire.ConsumeTag(partial)
			n, _ := protowire.ConsumeVarint(partial[tag:])
			records = max(0, int64(n))
		}
		partial = partial[size:]
	}
	return records, string(text)
}
