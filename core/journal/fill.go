package journal

import (
	"bytes"
	"strconv"
	"time"
	"unicode/utf8"

	"oakbarrel/core/record"
)

// Place is where an entry stands: after all with a smaller number of the same line of numbers.
type Place struct {
	Line   string // of numbers, as each journal has its own
	Number int64
	Cursor string // as the journal finds it again
}

// PlaceOf takes a cursor of the journal apart: "s=LINE;i=NUMBER;…", the number in hexadecimal.
func PlaceOf(cursor []byte) (p Place, ok bool) {
	p.Cursor = string(cursor)
	for part := range bytes.SplitSeq(cursor, []byte{';'}) {
		name, value, _ := bytes.Cut(part, []byte{'='})
		switch string(name) {
		case "s":
			p.Line = string(value)
		case "i":
			n, err := strconv.ParseInt(string(value), 16, 64)
			if err != nil || n <= 0 {
				return p, false
			}
			p.Number = n
		}
	}
	return p, p.Line != "" && p.Number > 0
}

// element holds the fields of an entry.
const element = "[journal@32473"

// named are the fields that have a name of ours in the element; "" for those that are
// properties of the record, or say where the entry stands.
var named = map[string]string{
	"MESSAGE": "", "PRIORITY": "", "SYSLOG_FACILITY": "", "SYSLOG_IDENTIFIER": "", "SYSLOG_PID": "", "SYSLOG_TIMESTAMP": "", "SYSLOG_RAW": "", "_PID": "", "_HOSTNAME": "", "_COMM": "comm",
	"_SOURCE_REALTIME_TIMESTAMP": "", "_SOURCE_MONOTONIC_TIMESTAMP": "", "__CURSOR": "", "__REALTIME_TIMESTAMP": "", "__MONOTONIC_TIMESTAMP": "", "__SEQNUM": "", "__SEQNUM_ID": "", "_RUNTIME_SCOPE": "",
	"_SYSTEMD_UNIT": "unit", "_SYSTEMD_USER_UNIT": "user_unit", "_SYSTEMD_SLICE": "slice", "_SYSTEMD_CGROUP": "cgroup", "_SYSTEMD_INVOCATION_ID": "invocation", "_SYSTEMD_SESSION": "session", "_SYSTEMD_OWNER_UID": "owner_uid", "_SYSTEMD_USER_SLICE": "user_slice",
	"_BOOT_ID": "boot", "_MACHINE_ID": "machine", "_TRANSPORT": "transport", "_UID": "uid", "_GID": "gid", "_EXE": "exe", "_CMDLINE": "cmdline", "_CAP_EFFECTIVE": "capabilities", "_SELINUX_CONTEXT": "context", "_STREAM_ID": "", "_LINE_BREAK": "", "_NAMESPACE": "namespace",
	"CONTAINER_NAME": "", "CONTAINER_ID": "", "CONTAINER_ID_FULL": "", "CONTAINER_TAG": "", "IMAGE_NAME": "", "CONTAINER_IMAGE": "", "CONTAINER_LOG_EPOCH": "", "CONTAINER_LOG_ORDINAL": "",
	"MESSAGE_ID": "message_id", "UNIT": "about_unit", "USER_UNIT": "about_user_unit",
}

// Fill makes a record of an entry. Memory is added to, and returned; the slices of the
// record point into it, or into that of the entry. It returns false where the entry has no
// message: some have none.
func (e *Entry) Fill(r *record.Record, memory []byte) (_ []byte, ok bool) {
	severity, facility := record.Info, record.Facility(3) // daemon
	var realtime, source []byte
	var app, comm []byte
	var of box
	for i := range e.Fields {
		f := &e.Fields[i]
		switch string(f.Name) {
		case "MESSAGE":
			r.Text, r.Cut, ok = valid(f.Value), f.Cut, true
		case "PRIORITY":
			if len(f.Value) == 1 && f.Value[0] >= '0' && f.Value[0] <= '7' {
				severity = record.Severity(f.Value[0] - '0')
			}
		case "SYSLOG_FACILITY":
			if n, err := strconv.ParseUint(string(f.Value), 10, 8); err == nil && n < 24 {
				facility = record.Facility(n)
			}
		case "SYSLOG_IDENTIFIER":
			app = f.Value
		case "_COMM":
			comm = f.Value
		case "SYSLOG_PID":
			r.ProcID = f.Value
		case "_PID":
			if r.ProcID == nil {
				r.ProcID = f.Value
			}
		case "_HOSTNAME":
			r.Host = f.Value
		case "CONTAINER_NAME":
			of.name = valid(f.Value)
		case "CONTAINER_ID":
			of.id = valid(f.Value)
		case "IMAGE_NAME", "CONTAINER_IMAGE":
			of.image = valid(f.Value)
		case "__REALTIME_TIMESTAMP":
			realtime = f.Value
		case "_SOURCE_REALTIME_TIMESTAMP":
			source = f.Value
		}
	}
	if app == nil {
		app = comm
	}
	r.App = app
	if source == nil {
		source = realtime
	}
	if micros, err := strconv.ParseInt(string(source), 10, 64); err == nil {
		r.Time = record.StampOf(time.UnixMicro(micros).UTC())
	}
	r.Priority = record.MakePriority(facility, severity)
	start := len(memory)
	memory = e.appendData(memory)
	if of.name != nil {
		r.App = of.name
		switch severity { // engines say by it which stream a line is of
		case record.Info:
			r.Stream = record.Stdout
		case record.Error:
			r.Stream = record.Stderr
		}
		memory = of.appendData(memory)
	}
	if len(memory) > start {
		r.SetData(memory[start:len(memory):len(memory)])
	}
	return memory, ok
}

// box is the container whose output an entry is, as engines write it; without a name for none.
type box struct{ name, id, image []byte }

func (b *box) appendData(dst []byte) []byte {
	dst = append(record.AppendDataValue(append(dst, `[container@32473 name="`...), b.name), '"')
	if b.id != nil {
		dst = append(record.AppendDataValue(append(dst, ` id="`...), b.id), '"')
	}
	if b.image != nil {
		dst = append(record.AppendDataValue(append(dst, ` image="`...), b.image), '"')
	}
	return append(dst, ']')
}

// appendData writes what is no property of the record as an element of structured data,
// nothing where there is none of it.
func (e *Entry) appendData(dst []byte) []byte {
	start, cut := len(dst), []byte(nil)
	dst = append(dst, element...)
	none := len(dst)
	for i := range e.Fields {
		f := &e.Fields[i]
		name, known := named[string(f.Name)]
		if known && name == "" {
			continue
		}
		dst = append(dst, ' ')
		if known {
			dst = append(dst, name...)
		} else {
			dst = appendName(dst, f.Name)
		}
		dst = append(dst, '=', '"')
		dst = append(record.AppendDataValue(dst, valid(f.Value)), '"')
		if f.Cut && cut == nil {
			cut = f.Name
		}
	}
	if cut != nil {
		dst = append(appendName(append(dst, ` cut="`...), cut), '"')
	}
	if len(dst) == none {
		return dst[:start]
	}
	return append(dst, ']')
}

// appendName writes a name as structured data can have it: of 32 characters.
func appendName(dst, name []byte) []byte {
	for _, c := range name[:min(len(name), 32)] {
		if c == '"' || c == ']' || c == '=' {
			c = '_'
		}
		dst = append(dst, c)
	}
	return dst
}

// valid returns a text as it is, or with what is no UTF-8 replaced.
func valid(b []byte) []byte {
	if utf8.Valid(b) {
		return b
	}
	return bytes.ToValidUTF8(b, []byte("\uFFFD"))
}
