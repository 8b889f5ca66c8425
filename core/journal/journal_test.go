package journal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// counted writes a field with its length before it.
func counted(name, value string) string {
	var size [8]byte
	binary.LittleEndian.PutUint64(size[:], uint64(len(value)))
	return name + "\n" + string(size[:]) + value + "\n"
}

const place = "__CURSOR=s=ab;i=1f;b=bb;m=1;t=1;x=1\n"

func fill(t *testing.T, entry string, largest int) (r record.Record, ok bool) {
	t.Helper()
	var e Entry
	memory, err := NewReader(strings.NewReader(entry), largest).Next(&e, nil)
	if err != nil {
		t.Fatal(err)
	}
	_, ok = e.Fill(&r, memory)
	var check record.DataChecker
	if r.Data != nil && !check.Valid(r.Data) {
		t.Errorf("these are no data: %s", r.Data)
	}
	return r, ok
}

func TestAnEntryIsARecord(t *testing.T) {
	r, ok := fill(t, place+`__REALTIME_TIMESTAMP=1795601700123456
PRIORITY=3
SYSLOG_FACILITY=4
SYSLOG_IDENTIFIER=pumpd
_PID=77
SYSLOG_PID=78
_HOSTNAME=reef-02
_COMM=pumpd
_TRANSPORT=syslog
_SYSTEMD_UNIT=pumpd.service
_BOOT_ID=bb
TANK=7 "a" ] \
`+counted("MESSAGE", "pump stalled\nand more")+"\n", 100)
	if !ok || string(r.Text) != "pump stalled\nand more" || r.Priority != record.MakePriority(4, record.Error) || string(r.App) != "pumpd" || string(r.ProcID) != "78" || string(r.Host) != "reef-02" || r.Cut {
		t.Errorf("%+v", r)
	}
	if got := r.Time.Sec; got != 1795601700 {
		t.Error(got)
	}
	if want := `[journal@32473 comm="pumpd" transport="syslog" unit="pumpd.service" boot="bb" TANK="7 \"a\" \] \\"]`; string(r.Data) != want {
		t.Errorf("%s\nwant %s", r.Data, want)
	}
}

func TestWhatEntriesMayLack(t *testing.T) {
	if r, ok := fill(t, place+"MESSAGE=x\n\n", 100); !ok || r.Priority != record.MakePriority(3, record.Info) || r.App != nil || r.Data != nil {
		t.Errorf("%+v", r)
	}
	if r, _ := fill(t, place+"MESSAGE=x\n_COMM=cron\nPRIORITY=9\nSYSLOG_FACILITY=99\n_PID=5\n\n", 100); string(r.App) != "cron" || string(r.ProcID) != "5" || r.Priority != record.MakePriority(3, record.Info) {
		t.Errorf("%+v", r)
	}
	if _, ok := fill(t, place+"COREDUMP_UNIT=x\n\n", 100); ok {
		t.Error("it has no message")
	}
	if r, _ := fill(t, place+counted("MESSAGE", "a\xffb")+"\n", 100); string(r.Text) != "a\uFFFDb" {
		t.Errorf("%q", r.Text)
	}
}

// What is long is cut and marked, and nothing that is announced is held before it comes.
func TestLongFieldsAreCut(t *testing.T) {
	long := strings.Repeat("x", 3<<20)
	r, _ := fill(t, place+counted("COREDUMP", long)+"OTHER="+long+"\n"+counted("MESSAGE", long)+"\n", 1000)
	if len(r.Text) != 1000 || !r.Cut {
		t.Errorf("%d bytes, cut %v", len(r.Text), r.Cut)
	}
	if len(r.Data) > 3*mostValue || !bytes.Contains(r.Data, []byte(` cut="COREDUMP"]`)) {
		t.Errorf("%d bytes: %s", len(r.Data), r.Data[max(0, len(r.Data)-40):])
	}
	var size [8]byte
	binary.LittleEndian.PutUint64(size[:], 1<<60)
	var e Entry
	memory, err := NewReader(strings.NewReader("MESSAGE\n"+string(size[:])+"abc"), 1<<30).Next(&e, nil)
	if !errors.Is(err, io.ErrUnexpectedEOF) || cap(memory) > 1<<10 {
		t.Error(err, cap(memory))
	}
}

func TestEntriesComeOneAfterTheOther(t *testing.T) {
	r := NewReader(strings.NewReader("\n"+place+"MESSAGE=a\n\n\n"+place+"MESSAGE=b\n\n"), 100)
	var e Entry
	var memory []byte
	for _, want := range []string{"a", "b"} {
		var err error
		if memory, err = r.Next(&e, memory); err != nil || string(e.Get("MESSAGE")) != want {
			t.Errorf("%v, %s", err, e.Get("MESSAGE"))
		}
	}
	if _, err := r.Next(&e, memory); err != io.EOF {
		t.Error(err)
	}
}

func TestWhatIsNoExport(t *testing.T) {
	for text, want := range map[string]error{
		"MESSAGE=a\n":                      io.ErrUnexpectedEOF,
		"MESSAGE":                          io.ErrUnexpectedEOF,
		"MESSAGE=a":                        io.ErrUnexpectedEOF,
		"=a\n\n":                           ErrFormat,
		"two words=a\n\n":                  ErrFormat,
		"{\"MESSAGE\": 1}":                 ErrFormat,
		strings.Repeat("A", 65) + "=a\n\n": ErrFormat,
		"A\n\x01\x00\x00\x00\x00\x00\x00\x00bc\n": ErrFormat,
		strings.Repeat("A=b\n", 1025) + "\n":      ErrFormat,
	} {
		var e Entry
		if _, err := NewReader(strings.NewReader(text), 100).Next(&e, nil); !errors.Is(err, want) {
			t.Errorf("%.40q: %v, want %v", text, err, want)
		}
	}
}

func TestPlaces(t *testing.T) {
	if p, ok := PlaceOf([]byte("s=ab;i=1f;b=bb;m=1;t=1;x=1")); !ok || p.Line != "ab" || p.Number != 31 {
		t.Errorf("%+v %v", p, ok)
	}
	for _, no := range []string{"", "s=ab", "i=1", "s=ab;i=", "s=ab;i=zz", "s=ab;i=0", "s=;i=1", "s=ab;i=-1", "s=ab;i=ffffffffffffffff"} {
		if p, ok := PlaceOf([]byte(no)); ok {
			t.Errorf("%q: %+v", no, p)
		}
	}
}

// Whatever comes, a record's data are well formed, memory is bounded, and nothing panics.
func FuzzExport(f *testing.F) {
	f.Add([]byte(place + "MESSAGE=a\nPRIORITY=3\n\n" + place + counted("MESSAGE", "b\nc") + "\n"))
	f.Add([]byte("A\xff=]\n\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := NewReader(bytes.NewReader(b), 1000)
		var e Entry
		var check record.DataChecker
		for {
			memory, err := r.Next(&e, nil)
			if err != nil {
				return
			}
			if len(memory) > mostEntry+1000+mostFields*(mostName+1) {
				t.Fatalf("%d bytes are kept", len(memory))
			}
			var one record.Record
			e.Fill(&one, memory)
			if one.Data != nil && !check.Valid(one.Data) {
				t.Fatalf("these are no data: %q", one.Data)
			}
		}
	})
}

// An entry is read and made a record without allocating, once there is memory.
func BenchmarkEntry(b *testing.B) {
	text := []byte(strings.Repeat(place+"__REALTIME_TIMESTAMP=1795601700123456\nPRIORITY=6\n_UID=0\n_GID=0\n_TRANSPORT=syslog\nSYSLOG_FACILITY=3\nSYSLOG_IDENTIFIER=pumpd\n_PID=77\n_COMM=pumpd\n_EXE=/usr/bin/pumpd\n_CMDLINE=/usr/bin/pumpd --tank 7\n_SYSTEMD_UNIT=pumpd.service\n_BOOT_ID=0123456789abcdef0123456789abcdef\n_MACHINE_ID=0123456789abcdef0123456789abcdef\n_HOSTNAME=reef-02\nMESSAGE=pump P7: 4411 rpm, 3.2 bar\n\n", 1000))
	var e Entry
	var memory []byte
	b.SetBytes(int64(len(text) / 1000))
	b.ReportAllocs()
	in := bytes.NewReader(text)
	r := NewReader(in, 8192)
	for b.Loop() {
		var err error
		memory, err = r.Next(&e, memory[:0])
		if err == io.EOF {
			in.Reset(text)
			r = NewReader(in, 8192)
			continue
		}
		var one record.Record
		memory, _ = e.Fill(&one, memory)
	}
}

// What engines write into the journal of a container is of that container.
func TestAnEntryOfAContainer(t *testing.T) {
	for entry, want := range map[string]string{
		"PRIORITY=6\nSYSLOG_IDENTIFIER=9b46794e33f3\nCONTAINER_NAME=ticket-web\nCONTAINER_ID=9b46794e33f3\nCONTAINER_ID_FULL=9b46794e33f3aa01\nIMAGE_NAME=lantern/web:3\nTEAM=doors\nMESSAGE=x\n\n": `ticket-web stdout [journal@32473 TEAM="doors"][container@32473 name="ticket-web" id="9b46794e33f3" image="lantern/web:3"]`,
		"PRIORITY=3\nCONTAINER_NAME=a\"]b\nMESSAGE=x\n\n":      `a"]b stderr [container@32473 name="a\"\]b"]`,
		"PRIORITY=4\nCONTAINER_ID=9b46794e33f3\nMESSAGE=x\n\n": "  ",
	} {
		r, ok := fill(t, place+entry, 100)
		stream := ""
		if r.Stream != 0 {
			stream = r.Stream.String()
		}
		if got := string(r.App) + " " + stream + " " + string(r.Data); !ok || got != want {
			t.Errorf("%s\nwant %s", got, want)
		}
	}
}
