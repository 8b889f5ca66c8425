package journal

import (
	"bytes"
	"encoding/binary"
	"strconv"

	"oakbarrel/core/record"
)

// mostGiven bounds the fields that an entry is given, well below what the journal takes.
const mostGiven = 500

// fieldPrefix stands before the names of fields, so that none is taken for one that says
// something to the journal itself.
const fieldPrefix = "FIELD_"

// AppendNative adds a record to dst as the journal takes it over its socket, in its native
// protocol. Nothing of r is kept. What the journal says of entries itself, their time and
// host, stands beside it as RECORD_TIME and RECORD_HOST.
func AppendNative(dst []byte, r *record.Record) []byte {
	dst = appendField(dst, "MESSAGE", r.Text)
	dst = appendField(dst, "PRIORITY", []byte{'0' + byte(r.Severity())})
	dst = append(strconv.AppendUint(append(dst, "SYSLOG_FACILITY="...), uint64(r.Facility()), 10), '\n')
	for _, p := range []struct {
		name  string
		value []byte
	}{{"SYSLOG_IDENTIFIER", r.App}, {"SYSLOG_PID", r.ProcID}, {"RECORD_MSGID", r.MsgID}, {"RECORD_HOST", r.Host}} {
		if p.value != nil {
			dst = appendField(dst, p.name, p.value)
		}
	}
	if !r.Time.IsZero() {
		dst = append(r.Time.Append(append(dst, "RECORD_TIME="...), 9), '\n')
	}
	if r.HasFields() {
		left := mostGiven
		dst = appendTree(dst, r.Fields().Root(), fieldPrefix, &left)
	}
	return dst
}

// appendTree adds the fields within v: those within objects under the names of both, those
// of lists several times.
func appendTree(dst []byte, v record.Value, name string, left *int) []byte {
	switch v.Kind() {
	case record.Object:
		for c := v.First(); c.More(); c = c.Next() {
			dst = appendTree(dst, c, nameWithin(name, c.Key()), left)
		}
		return dst
	case record.List:
		for c := v.First(); c.More(); c = c.Next() {
			dst = appendTree(dst, c, name, left)
		}
		return dst
	}
	if *left--; *left < 0 || !v.Exists() {
		return dst
	}
	return appendField(dst, name, v.Text())
}

// nameWithin returns the name of a field in an object: capitals, digits and _.
func nameWithin(name string, key []byte) string {
	b := make([]byte, 0, mostName)
	if b = append(b, name...); name != fieldPrefix {
		b = append(b, '_')
	}
	for _, c := range key {
		switch {
		case c >= 'a' && c <= 'z':
			c -= 'a' - 'A'
		case c >= 'A' && c <= 'Z' || c >= '0' && c <= '9':
		default:
			c = '_'
		}
		b = append(b, c)
	}
	return string(b[:min(len(b), mostName)])
}

// appendField adds one field. A value with line ends has its length before it.
func appendField(dst []byte, name string, value []byte) []byte {
	dst = append(dst, name...)
	if bytes.IndexByte(value, '\n') < 0 {
		dst = append(append(dst, '='), value...)
		return append(dst, '\n')
	}
	dst = binary.LittleEndian.AppendUint64(append(dst, '\n'), uint64(len(value)))
	return append(append(dst, value...), '\n')
}
