package journal

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// readNative reads an entry as the journal does.
func readNative(b []byte) (fields []string, ok bool) {
	for len(b) > 0 {
		line, rest, found := bytes.Cut(b, []byte{'\n'})
		if !found {
			return nil, false
		}
		name, value, short := bytes.Cut(line, []byte{'='})
		if !short {
			if len(rest) < 8 {
				return nil, false
			}
			n := binary.LittleEndian.Uint64(rest)
			if rest = rest[8:]; uint64(len(rest)) <= n || rest[n] != '\n' {
				return nil, false
			}
			value, rest = rest[:n], rest[n+1:]
		}
		if len(name) == 0 || len(name) > 64 || strings.Trim(string(name), "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") != "" || name[0] == '_' {
			return nil, false
		}
		fields = append(fields, string(name)+"="+string(value))
		b = rest
	}
	return fields, true
}

func TestARecordForTheJournal(t *testing.T) {
	r := record.Record{
		Priority: record.MakePriority(record.Local0+3, record.Warning), Host: []byte("reef-02"), App: []byte("pumpd"), ProcID: []byte("412"), MsgID: []byte("LOW"),
		Text: []byte("pressure\nis low"), Time: record.Stamp{Sec: 1_795_946_400, Nsec: 5, Form: record.Zulu},
	}
	r.SetData([]byte(`{"tank@32473":{"ph":8.1,"id":["4","12"]},"message":"not the text","priority":"0","deep":{"er":{"yes":true}},"none":null}`))
	got, ok := readNative(AppendNative(nil, &r))
	want := []string{"MESSAGE=pressure\nis low", "PRIORITY=4", "SYSLOG_FACILITY=19", "SYSLOG_IDENTIFIER=pumpd", "SYSLOG_PID=412", "RECORD_MSGID=LOW", "RECORD_HOST=reef-02", "RECORD_TIME=2026-11-29T10:00:00.000000005Z",
		"FIELD_TANK_32473_PH=8.1", "FIELD_TANK_32473_ID=4", "FIELD_TANK_32473_ID=12", "FIELD_MESSAGE=not the text", "FIELD_PRIORITY=0", "FIELD_DEEP_ER_YES=true"}
	if !ok || !reflect.DeepEqual(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	if got, ok := readNative(AppendNative(nil, &record.Record{})); !ok || got[0] != "MESSAGE=" {
		t.Errorf("an empty record: %q", got)
	}
	many := `{`
	for i := range 2000 {
		many += fmt.Sprintf(`"f%d":%d,`, i, i)
	}
	r.SetData([]byte(many + `"last":1}`))
	if got, ok := readNative(AppendNative(nil, &r)); !ok || len(got) > 1000 {
		t.Errorf("an entry of %d fields", len(got))
	}
}

// Whatever a record holds, its entry is whole, and says nothing but what it is to say.
func FuzzNative(f *testing.F) {
	f.Add("text", "app", `{"a":{"b\nc=d":"e\nMESSAGE=f"}}`)
	f.Add("a\nPRIORITY=0\n", "x\n", `[tank@32473 ph="8.1"]`)
	f.Fuzz(func(t *testing.T, text, app, data string) {
		r := record.Record{Text: []byte(text), App: []byte(app)}
		if new(record.DataChecker).Valid([]byte(data)) {
			r.SetData([]byte(data))
		}
		fields, ok := readNative(AppendNative(nil, &r))
		if !ok || fields[0] != "MESSAGE="+text {
			t.Fatalf("%q", fields)
		}
		for _, field := range fields[1:] {
			name, _, _ := strings.Cut(field, "=")
			if !strings.HasPrefix(name, "FIELD_") && name != "PRIORITY" && name != "SYSLOG_FACILITY" && name != "SYSLOG_IDENTIFIER" {
				t.Fatalf("%q", field)
			}
		}
	})
}
