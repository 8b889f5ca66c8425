package otlp

import (
	"encoding/binary"
	"encoding/hex"
	"math"
	"strconv"
	"unicode/utf8"

	"google.golang.org/protobuf/encoding/protowire"

	"oakbarrel/core/record"
)

// Encoder makes an ExportLogsServiceRequest in protobuf of records. The zero
// Encoder is empty; it is for one goroutine.
type Encoder struct {
	groups  []group        // what was added, by host and program
	index   map[string]int // of groups
	key     []byte         // of the group that is looked for
	buffers [][]byte       // of nested messages under way, to be used again
	depth   int
}

// group is the log records of one resource.
type group struct {
	host, app []byte
	records   []byte // field 2 of ScopeLogs, again and again
}

// Fields of the messages, as the protocol numbers them.
const (
	requestResourceLogs = 1
	resourceLogsOf      = 1
	resourceLogsScopes  = 2
	resourceAttributes  = 1
	scopeLogRecords     = 2

	logTime           = 1
	logSeverityNumber = 2
	logSeverityText   = 3
	logBody           = 5
	logAttributes     = 6
	logTraceID        = 9
	logSpanID         = 10
	logObserved       = 11

	pairKey   = 1
	pairValue = 2

	anyString = 1
	anyBool   = 2
	anyInt    = 3
	anyDouble = 4
	anyArray  = 5
	anyPairs  = 6
)

// numbers of the severities, as the log data model's table for syslog has them.
var numbers = [8]uint64{record.Debug: 5, record.Info: 9, record.Notice: 10, record.Warning: 13, record.Error: 17, record.Critical: 18, record.Alert: 19, record.Emergency: 21}

// Reset empties the encoder and keeps its memory.
func (e *Encoder) Reset() {
	e.groups = e.groups[:0]
	clear(e.index)
}

// Add adds a record, and keeps nothing of it.
func (e *Encoder) Add(r *record.Record) {
	g := e.groupOf(r.Host, r.App)
	start := e.open()
	b := e.buffers[start]
	b = protowire.AppendFixed64(protowire.AppendTag(b, logTime, protowire.Fixed64Type), nanos(r.Time))
	b = protowire.AppendVarint(protowire.AppendTag(b, logSeverityNumber, protowire.VarintType), numbers[r.Severity()])
	b = appendText(b, logSeverityText, []byte(r.Severity().String()))
	b = protowire.AppendFixed64(protowire.AppendTag(b, logObserved, protowire.Fixed64Type), nanos(r.Received))
	e.buffers[start] = b
	e.nested(start, logBody, func(i int) { e.buffers[i] = appendText(e.buffers[i], anyString, r.Text) })
	e.property(start, "syslog.facility", []byte(r.Facility().String()))
	e.property(start, "syslog.procid", r.ProcID)
	e.property(start, "syslog.msgid", r.MsgID)
	e.property(start, "log.iostream", []byte(r.Stream.String()))
	if r.HasFields() {
		for v := r.Fields().Root().First(); v.More(); v = v.Next() {
			e.field(start, v)
		}
	}
	g.records = protowire.AppendBytes(protowire.AppendTag(g.records, scopeLogRecords, protowire.BytesType), e.buffers[start])
	e.end()
}

// Append writes the request.
func (e *Encoder) Append(dst []byte) []byte {
	for i := range e.groups {
		g := &e.groups[i]
		outer := e.open()
		e.nested(outer, resourceLogsOf, func(resource int) {
			e.attribute(resource, resourceAttributes, "service.name", g.app)
			e.attribute(resource, resourceAttributes, "host.name", g.host)
		})
		e.buffers[outer] = protowire.AppendBytes(protowire.AppendTag(e.buffers[outer], resourceLogsScopes, protowire.BytesType), g.records)
		dst = protowire.AppendBytes(protowire.AppendTag(dst, requestResourceLogs, protowire.BytesType), e.buffers[outer])
		e.end()
	}
	return dst
}

// groupOf returns the group of a host and a program, as there may be many.
func (e *Encoder) groupOf(host, app []byte) *group {
	e.key = append(append(binary.AppendUvarint(e.key[:0], uint64(len(host))), host...), app...)
	if at, known := e.index[string(e.key)]; known {
		return &e.groups[at]
	}
	if e.index == nil {
		e.index = map[string]int{}
	}
	e.index[string(e.key)] = len(e.groups)
	if n := len(e.groups); n < cap(e.groups) {
		e.groups = e.groups[:n+1]
	} else {
		e.groups = append(e.groups, group{})
	}
	g := &e.groups[len(e.groups)-1]
	g.host, g.app, g.records = append(g.host[:0], host...), append(g.app[:0], app...), g.records[:0]
	return g
}

// open returns the place of an empty buffer for a nested message.
func (e *Encoder) open() int {
	if e.depth == len(e.buffers) {
		e.buffers = append(e.buffers, nil)
	}
	e.buffers[e.depth] = e.buffers[e.depth][:0]
	e.depth++
	return e.depth - 1
}

func (e *Encoder) end() { e.depth-- }

// nested adds a message, which fill writes, as a field of the one in buffer to.
func (e *Encoder) nested(to int, field protowire.Number, fill func(i int)) {
	i := e.open()
	fill(i)
	e.buffers[to] = protowire.AppendBytes(protowire.AppendTag(e.buffers[to], field, protowire.BytesType), e.buffers[i])
	e.end()
}

// property adds an attribute that is a text, where there is one.
func (e *Encoder) property(to int, name string, value []byte) {
	if len(value) > 0 {
		e.attribute(to, logAttributes, name, value)
	}
}

func (e *Encoder) attribute(to int, field protowire.Number, name string, value []byte) {
	if value == nil {
		return
	}
	e.nested(to, field, func(pair int) {
		e.buffers[pair] = appendText(e.buffers[pair], pairKey, []byte(name))
		e.nested(pair, pairValue, func(i int) { e.buffers[i] = appendText(e.buffers[i], anyString, value) })
	})
}

// field adds a field of a record as an attribute; the ids of a trace have
// places of their own.
func (e *Encoder) field(to int, v record.Value) {
	var id [16]byte
	text := v.Text()
	if name := string(v.Key()); v.Kind() == record.String && (name == "trace_id" && len(text) == 32 || name == "span_id" && len(text) == 16) {
		if n, err := hex.Decode(id[:], text); err == nil {
			field := protowire.Number(logTraceID)
			if name == "span_id" {
				field = logSpanID
			}
			e.buffers[to] = protowire.AppendBytes(protowire.AppendTag(e.buffers[to], field, protowire.BytesType), id[:n])
			return
		}
	}
	e.pair(to, logAttributes, v)
}

func (e *Encoder) pair(to int, field protowire.Number, v record.Value) {
	e.nested(to, field, func(pair int) {
		e.buffers[pair] = appendText(e.buffers[pair], pairKey, v.Key())
		e.nested(pair, pairValue, func(i int) { e.value(i, v) })
	})
}

// value writes an AnyValue. Null is one without a value.
func (e *Encoder) value(to int, v record.Value) {
	b := e.buffers[to]
	switch v.Kind() {
	case record.String:
		e.buffers[to] = appendText(b, anyString, v.Text())
	case record.Bool:
		e.buffers[to] = protowire.AppendVarint(protowire.AppendTag(b, anyBool, protowire.VarintType), protowire.EncodeBool(string(v.Text()) == "true"))
	case record.Number:
		if n, err := strconv.ParseInt(string(v.Text()), 10, 64); err == nil {
			e.buffers[to] = protowire.AppendVarint(protowire.AppendTag(b, anyInt, protowire.VarintType), uint64(n))
			return
		}
		f, _ := strconv.ParseFloat(string(v.Text()), 64)
		e.buffers[to] = protowire.AppendFixed64(protowire.AppendTag(b, anyDouble, protowire.Fixed64Type), math.Float64bits(f))
	case record.List:
		e.nested(to, anyArray, func(list int) {
			for c := v.First(); c.More(); c = c.Next() {
				e.nested(list, 1, func(i int) { e.value(i, c) })
			}
		})
	case record.Object:
		e.nested(to, anyPairs, func(pairs int) {
			for c := v.First(); c.More(); c = c.Next() {
				e.pair(pairs, 1, c)
			}
		})
	}
}

func nanos(s record.Stamp) uint64 { return uint64(max(0, s.Sec)*1e9 + int64(s.Nsec)) }

// appendText writes a text, in which bytes that are not UTF-8 become U+FFFD.
func appendText(dst []byte, field protowire.Number, text []byte) []byte {
	if utf8.Valid(text) {
		return protowire.AppendBytes(protowire.AppendTag(dst, field, protowire.BytesType), text)
	}
	return protowire.AppendString(protowire.AppendTag(dst, field, protowire.BytesType), string([]rune(string(text))))
}
