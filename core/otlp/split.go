package otlp

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
)

// A request is taken apart record by record, so that it never takes more memory
// than its body and one record do: 5 KB that are packed well may unpack to
// millions of records.

// maxRecord bounds a record, a resource and a scope, in bytes of the request; one
// of a few bytes for each value takes a hundred times as much in memory.
const maxRecord = 1 << 20

// The numbers of the fields in an export request of logs.
const (
	resourceLogsField = 1 // of the request
	resourceField     = 1 // of ResourceLogs
	scopeLogsField    = 2
	scopeField        = 1 // of ScopeLogs
	logRecordsField   = 2
)

// eachMessage calls each with the fields of a message that have a number and are
// messages themselves.
func eachMessage(b []byte, number protowire.Number, each func(b []byte) error) error {
	for len(b) > 0 {
		num, kind, n := protowire.ConsumeTag(b)
		if n < 0 {
			return protowire.ParseError(n)
		}
		b = b[n:]
		if num != number || kind != protowire.BytesType {
			if n = protowire.ConsumeFieldValue(num, kind, b); n < 0 {
				return protowire.ParseError(n)
			}
			b = b[n:]
			continue
		}
		value, n := protowire.ConsumeBytes(b)
		if n < 0 {
			return protowire.ParseError(n)
		}
		b = b[n:]
		if err := each(value); err != nil {
			return err
		}
	}
	return nil
}

// merged returns the one message with a number, whose parts may stand apart.
func merged(b []byte, number protowire.Number) (all []byte, err error) {
	err = eachMessage(b, number, func(part []byte) error {
		all = append(all, part...)
		return nil
	})
	return all, err
}

func readProto(b []byte, m proto.Message) error {
	if len(b) > maxRecord {
		return errTooLarge
	}
	return proto.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(b, m)
}

var errTooLarge = fmt.Errorf("a record, a resource and a scope have at most %d KiB each", maxRecord>>10)

// shared is what records have in common.
type shared struct {
	resource []*common.KeyValue
	scope    *common.InstrumentationScope
}

// splitProto calls each with every record of a request, and why it cannot be
// read. The request is looked through before, so that of one that is broken
// nothing is taken.
func splitProto(body []byte, each func(g shared, l *logs.LogRecord, err error)) error {
	if err := walkProto(body, func(*resource.Resource, *common.InstrumentationScope, []byte) error { return nil }); err != nil {
		return err
	}
	return walkProto(body, func(r *resource.Resource, s *common.InstrumentationScope, b []byte) error {
		l := &logs.LogRecord{}
		err := readProto(b, l)
		each(shared{r.GetAttributes(), s}, l, err)
		return nil
	})
}

func walkProto(body []byte, each func(*resource.Resource, *common.InstrumentationScope, []byte) error) error {
	return eachMessage(body, resourceLogsField, func(ofResource []byte) error {
		b, err := merged(ofResource, resourceField)
		r := &resource.Resource{}
		if err = errors.Join(err, readProto(b, r)); err != nil {
			return err
		}
		return eachMessage(ofResource, scopeLogsField, func(ofScope []byte) error {
			b, err := merged(ofScope, scopeField)
			s := &common.InstrumentationScope{}
			if err = errors.Join(err, readProto(b, s)); err != nil {
				return err
			}
			return eachMessage(ofScope, logRecordsField, func(b []byte) error { return each(r, s, b) })
		})
	})
}

func readJSON(b []byte, m proto.Message) error {
	if len(b) == 0 {
		return nil
	}
	if len(b) > maxRecord {
		return errTooLarge
	}
	return protojson.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(b, m)
}

// jsonGroup is ResourceLogs, or ScopeLogs, with either form of its names.
type jsonGroup struct {
	Resource, Scope json.RawMessage
	ScopeLogs       json.RawMessage `json:"scopeLogs"`
	ScopeLogsToo    json.RawMessage `json:"scope_logs"`
	LogRecords      json.RawMessage `json:"logRecords"`
	LogRecordsToo   json.RawMessage `json:"log_records"`
}

func splitJSON(body []byte, each func(g shared, l *logs.LogRecord, err error)) error {
	if !json.Valid(body) {
		return errors.New("it is not JSON")
	}
	var top struct {
		ResourceLogs    json.RawMessage `json:"resourceLogs"`
		ResourceLogsToo json.RawMessage `json:"resource_logs"`
	}
	if err := json.Unmarshal(body, &top); err != nil {
		return err
	}
	return eachElement(top.ResourceLogs, top.ResourceLogsToo, func(b json.RawMessage) error {
		var ofResource jsonGroup
		r := &resource.Resource{}
		if err := json.Unmarshal(b, &ofResource); err != nil {
			return err
		}
		if err := readJSON(ofResource.Resource, r); err != nil {
			return err
		}
		return eachElement(ofResource.ScopeLogs, ofResource.ScopeLogsToo, func(b json.RawMessage) error {
			var ofScope jsonGroup
			s := &common.InstrumentationScope{}
			if err := json.Unmarshal(b, &ofScope); err != nil {
				return err
			}
			if err := readJSON(ofScope.Scope, s); err != nil {
				return err
			}
			return eachElement(ofScope.LogRecords, ofScope.LogRecordsToo, func(b json.RawMessage) error {
				l := &logs.LogRecord{}
				each(shared{r.GetAttributes(), s}, l, readJSON(b, l))
				return nil
			})
		})
	})
}

// eachElement calls each with the elements of a list, under either of its names.
func eachElement(list, too json.RawMessage, each func(json.RawMessage) error) error {
	if len(list) == 0 {
		list = too
	}
	if len(list) == 0 || string(list) == "null" {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(list))
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return errors.New("a list is expected")
	}
	for d.More() {
		var element json.RawMessage
		if err := d.Decode(&element); err != nil {
			return err
		}
		if err := each(element); err != nil {
			return err
		}
	}
	return nil
}
