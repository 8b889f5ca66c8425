package block

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// sample returns records of all shapes.
func sample() (records []record.Record) {
	p := wire.Parser{Default: record.DefaultPriority}
	for i, message := range []string{
		`<165>1 2003-10-11T22:14:15.003-07:00 reef-02 pumpd 412 ID47 [tank@32473 id="4\"]"] stall`, "<34>1 - - - - - -", "<34>1 - - - - - - ", "no header \xff\x00\n", "<13>x: y", "<191>1 0000-01-01T00:00:00Z h a - - - é",
	} {
		r := record.Record{Received: record.Stamp{Sec: 1795601700 - int64(i), Nsec: int32(i), Form: record.Zulu}, Intake: "wire"}
		p.Parse(&r, []byte(message))
		records = append(records, r)
	}
	records[1].Peer = &record.Peer{Addr: netip.MustParseAddrPort("[fe80::1%eth0]:514")}
	records[2].Peer = &record.Peer{PID: 412, UID: 1000, GID: 100}
	records[3].Raw, records[3].Cut, records[3].Stream = []byte("raw"), true, record.Stderr
	records[4].Intake = ""
	records[4].Data = []byte(`{"tank":{"ph":8.1,"ok":true,"names":["a","ü\n"]},"n":null}`)
	return records
}

func build(records []record.Record, number func(i int) uint64) []byte {
	var b Builder
	for i := range records {
		b.Add(number(i), &records[i])
	}
	return b.Finish(nil)
}

func TestABlockGivesBackItsRecords(t *testing.T) {
	records := sample()
	number := func(i int) uint64 { return uint64(i*i + 7) } // with holes
	b, err := Decode(build(records, number))
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		i := 0
		b.Each(func(n uint64, r *record.Record) bool {
			want := &records[i]
			if n != number(i) || string(r.AppendJSON(nil)) != string(want.AppendJSON(nil)) || r.Unparsed != want.Unparsed || (r.Text == nil) != (want.Text == nil) || !bytes.Equal(r.Text, want.Text) {
				t.Errorf("record %d is number %d: %s\nwant %s", i, n, r.AppendJSON(nil), want.AppendJSON(nil))
			}
			i++
			return true
		})
		if i != len(records) {
			t.Errorf("%d records", i)
		}
	}
	h := b.Header()
	if h.Records != 6 || h.FirstNumber != 7 || h.LastNumber != 32 || h.FirstTime.String() != "0000-01-01T00:00:00Z" || h.LastReceived.Nsec != 0 || h.FirstReceived.Nsec != 5 || h.Severities != 1<<5|1<<2|1<<7 || h.BySeverity != [8]int{2: 2, 5: 3, 7: 1} {
		t.Errorf("header %+v", h)
	}
}

// The same records as blocks of the versions that are not written any more.
func TestOlderBlocksAreRead(t *testing.T) {
	want := build(sample(), func(i int) uint64 { return uint64(i*i + 7) })
	for version, packed := range map[byte]string{
		1: "KLUv/UQARgAxCgABBgcGAAACBAYIHM6Mx/gHwI23AfjH7rcFAQECAQMBBL/E2cfcAwAHmxoCAgICAhbI1LWwDQACAQECAQICAQMCAQQCAQUCBqUiIg0NvwYAAAAOAABGB3JlZWYtMDIFcHVtcGQDNDEyBElENDcEd2lyZRJbZmU4MDo6MSVldGgwXTo1MTQQcGlkIDQxMiAxMDAwIDEwMAF4AWgBYQYBAAAAAAkGAgAAAAgKBgMAAAAAAAYEAAAAAAAGBQUFBQAFBgAGBwAAAAYGAAEOAgMVc3RhbGxubyBoZWFkZXIg/wAKecOpBhcAAAA8AFFbdGFua0AzMjQ3MyBpZD0iNFwiXSJdeyJ0YW5rIjp7InBoIjo4LjEsIm9rIjp0cnVlLCJuYW1lcyI6WyJhIiwiw7xcbiJdfSwibiI6bnVsbH0GAAAABAAAA3Jhd+DXAtA=",
		2: "KLUv/UQASQBJCgACBgcGAAACBAYIHM6Mx/gHwI23AfjH7rcFAQECAQMBBL/E2cfcAwAHmxoCAgICAhbI1LWwDQACAQECAQICAQMCAQQCAQUCBqUiIg0NvwYAAAAOAABGB3JlZWYtMDIFcHVtcGQDNDEyBElENDcEd2lyZRJbZmU4MDo6MSVldGgwXTo1MTQQcGlkIDQxMiAxMDAwIDEwMAF4AWgBYQYBAAAAAAkGAgAAAAgKBgMAAAAAAAYEAAAAAAAGBQUFBQAFBgAGBwAAAAcABgABDgIDFXN0YWxsbm8gaGVhZGVyIP8ACnnDqQcAFwAAADwAUVt0YW5rQDMyNDczIGlkPSI0XCJdIl17InRhbmsiOnsicGgiOjguMSwib2siOnRydWUsIm5hbWVzIjpbImEiLCLDvFxuIl19LCJuIjpudWxsfQcAAAAABAAAA3Jhd24w9VE=",
	} {
		compressed, err := base64.StdEncoding.DecodeString(packed)
		if err != nil {
			t.Fatal(err)
		}
		b, err := Decode(compressed)
		if err != nil || b.version != version {
			t.Fatalf("version %d: %v", version, err)
		}
		var again Builder
		b.Each(func(number uint64, r *record.Record) bool { again.Add(number, r); return true })
		if !bytes.Equal(again.Finish(nil), want) {
			t.Errorf("version %d holds other records", version)
		}
	}
}

func TestABlockIsReadByRuns(t *testing.T) {
	records := make([]record.Record, 5000)
	for i := range records {
		at := record.Stamp{Sec: int64(i ^ 3), Form: record.Zulu}
		records[i] = record.Record{Time: at, Received: at, Text: strconv.AppendInt(nil, int64(i), 10)}
	}
	b, err := Open(build(records, func(i int) uint64 { return uint64(3*i + 10) }))
	if err != nil {
		t.Fatal(err)
	}
	spans, err := b.Runs()
	if err != nil || len(spans) != 5 {
		t.Fatalf("%d runs, %v", len(spans), err)
	}
	for _, run := range []int{4, 0, 3, 3} {
		i, end := run*1024, min(5000, run*1024+1024)
		if first, last := spans[run].First.Sec, spans[run].Last.Sec; first != int64(i) || last != int64(end-1) {
			t.Errorf("run %d is from %d to %d", run, first, last)
		}
		if err := b.ReadyFrom(run); err != nil {
			t.Fatal(err)
		}
		all := b.EachIn(run, true, func(n uint64, r *record.Record) bool {
			if n != uint64(3*i+10) || string(r.Text) != strconv.Itoa(i) || r.Received.Sec != int64(i^3) {
				t.Fatalf("number %d is %s", n, r.AppendJSON(nil))
			}
			i++
			return run != 3 || i < 3500
		})
		if run == 3 {
			end = 3500
		}
		if i != end || all != (run != 3) {
			t.Errorf("run %d ends with record %d, all of it %v", run, i, all)
		}
	}
}

// Times come back in whatever unit they are, and however far apart.
func TestTimesComeBack(t *testing.T) {
	for name, times := range map[string][]record.Stamp{
		"seconds":      {{Sec: 1795601700}, {Sec: 1795601701}, {Sec: 1795601600}},
		"milliseconds": {{Sec: 1795601700, Nsec: 999e6}, {Sec: 1795601701, Nsec: 1e6}, {Sec: 1795601700, Nsec: 2e6}},
		"nanoseconds":  {{Sec: -1, Nsec: 999999999}, {}, {Sec: -2, Nsec: 1}, {Sec: 1795601700, Nsec: 5}},
		"far apart":    {{Sec: 1<<32 - 1, Nsec: 999999999}, {Sec: 1 - 1<<32}, {Sec: 1<<32 - 1, Nsec: 1}},
		"out of reach": {{Sec: 253402300799, Nsec: 1000}, {Sec: -62167219200}, {Sec: 1 << 32}},
	} {
		var b Builder
		for i, at := range times {
			at.Form, at.Zone = record.Numeric, int16(60*i)
			b.Add(uint64(i+1), &record.Record{Time: at, Received: times[len(times)-1-i]})
		}
		content, err := Decode(b.Finish(nil))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		content.Each(func(n uint64, r *record.Record) bool {
			want, got := times[n-1], r.Time
			if got.Sec != want.Sec || got.Nsec != want.Nsec || got.Zone != int16(60*(n-1)) || r.Received != times[len(times)-int(n)] {
				t.Errorf("%s: time %d is %+v, received %+v", name, n, got, r.Received)
			}
			return true
		})
	}
}

func TestABuilderIsUsedAgain(t *testing.T) {
	records := sample()
	var b Builder
	for range 3 {
		for i := range records {
			b.Add(uint64(i+1), &records[i])
		}
		if got := b.Finish(nil); !bytes.Equal(got, build(records, func(i int) uint64 { return uint64(i + 1) })) || b.Len() != 0 || b.Size() != 0 {
			t.Error("the block depends on the one before")
		}
	}
}

func TestDamageIsFound(t *testing.T) {
	whole := build(sample(), func(i int) uint64 { return uint64(i + 1) })
	want, _ := Decode(whole)
	for i := range whole {
		for _, broken := range [][]byte{whole[:i], append(bytes.Clone(whole[:i]), append([]byte{whole[i] ^ 0x55}, whole[i+1:]...)...)} {
			b, err := Decode(broken)
			if err == nil && b.Header() == want.Header() {
				continue // the frame says the same in other words
			}
			if !errors.Is(err, ErrDamaged) {
				t.Fatalf("changed at byte %d: %v", i, err)
			}
		}
	}
}

func TestABlockCannotGrowWithoutBound(t *testing.T) {
	e, _ := zstd.NewWriter(nil)
	if _, err := Decode(e.EncodeAll(make([]byte, MaxBody+1), nil)); !errors.Is(err, ErrDamaged) {
		t.Errorf("%v", err)
	}
}

func TestLikeStandsByLike(t *testing.T) {
	var b Builder
	var lines []byte
	for i := range 5000 {
		r := record.Record{Time: record.Stamp{Sec: 1795601700 + int64(i/50), Nsec: int32(i % 50 * 1000), Form: record.Zulu}, Priority: record.Priority(128 + i%4), Host: []byte(fmt.Sprintf("reef-%02d", i%3)), App: []byte("pumpd"),
			ProcID: []byte("412"), Text: []byte(fmt.Sprintf("pump P%02d at %d rpm", i%12, 1400+i%97))}
		lines = append(wire.AppendRFC5424Line(lines, &r), '\n')
		b.Add(uint64(i+1), &r)
	}
	e, _ := zstd.NewWriter(nil)
	if block, plain := len(b.Finish(nil)), len(e.EncodeAll(lines, nil)); block*10 > plain*8 {
		t.Errorf("the block has %d bytes, the lines compressed %d", block, plain)
	}
}

func FuzzDecode(f *testing.F) {
	d, _ := zstd.NewReader(nil)
	body, _ := d.DecodeAll(build(sample(), func(i int) uint64 { return uint64(i + 1) }), nil)
	f.Add(body)
	f.Fuzz(func(t *testing.T, body []byte) {
		b, err := Decode(encoder().EncodeAll(body, nil))
		if err != nil {
			return
		}
		n := 0
		b.Each(func(_ uint64, r *record.Record) bool { r.AppendJSON(nil); n++; return true })
		if n != b.Header().Records {
			t.Errorf("%d records, the header has %d", n, b.Header().Records)
		}
	})
}

func FuzzRoundTrip(f *testing.F) {
	f.Add("<165>1 2003-10-11T22:14:15.003Z reef-02 pumpd 412 ID47 [tank@32473 id=\"4\"] stall", uint64(3))
	f.Fuzz(func(t *testing.T, message string, number uint64) {
		if number == 0 {
			return
		}
		r := record.Record{Received: record.Stamp{Sec: 1, Form: record.Zulu}}
		p := wire.Parser{Default: record.DefaultPriority}
		p.Parse(&r, []byte(message))
		b, err := Decode(build([]record.Record{r}, func(int) uint64 { return number }))
		if err != nil {
			t.Fatalf("%q: %v", message, err)
		}
		b.Each(func(n uint64, got *record.Record) bool {
			if n != number || string(got.AppendJSON(nil)) != string(r.AppendJSON(nil)) || !strings.EqualFold(string(got.Text), string(r.Text)) {
				t.Errorf("%q comes back as %s", message, got.AppendJSON(nil))
			}
			return true
		})
	})
}

// What is held by shapes gives back its texts, and a filter of exactly their words.
func FuzzShapes(f *testing.F) {
	f.Add("1 12 123 1234 12345 123456 1234567 12345678 123456789 1234567890 12345678901 123456789012345 1234567890123456 12345678901234567 123456789012345678 1234567890123456789 000000000000000001 00100000000 a literal of more than sixteen bytes 00")
	f.Add("pump P07 at 1400 rpm\npump P12 at 0900 rpm\n9 and 10a2 x77\xffé5\n00123é\x01\nid deadbeef01 DEADBEEF02 Zx81kq04T")
	f.Fuzz(func(t *testing.T, lines string) {
		var s shaper
		plain, shaped := newFilterBuilder(), newFilterBuilder()
		var all []byte
		for _, line := range strings.Split(lines, "\n") {
			s.add([]byte(line))
			plain.addText([]byte(line))
			all = append(all, line...)
		}
		ids, parts := s.append(nil, nil)
		column := shapedColumn{ids[1:], parts}
		_, texts, err := column.texts(0, len(lines), shaped)
		if err != nil || !bytes.Equal(texts, all) {
			t.Fatalf("%q comes back as %q, %v", all, texts, err)
		}
		if !slices.Equal(shaped.cells, plain.cells) {
			t.Errorf("the words of %q are others by their shapes", lines)
		}
	})
}
