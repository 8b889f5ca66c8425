package record

import (
	"bytes"
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
	"time"
)

func TestStampKeepsWhatWasSent(t *testing.T) {
	for _, s := range []string{
		"2003-10-11T22:14:15.003Z", "2003-08-24T05:14:15.000003-07:00", "1985-04-12T23:20:50.52Z", "2026-11-25T10:00:00Z",
		"2026-11-25T10:00:00+00:00", "2026-11-25T10:00:00-00:00", "2024-02-29T23:59:59.999999999+05:45", "0000-01-01T00:00:00Z",
		"9999-12-31T23:59:59-12:00", "1900-03-01T00:00:00+14:00",
	} {
		got, n, ok := ParseStamp([]byte(s))
		if !ok || n != len(s) || got.String() != s {
			t.Errorf("ParseStamp(%q) = %v, %d, %v", s, got, n, ok)
		}
		want, err := time.Parse(time.RFC3339Nano, s)
		if err == nil && !got.Time().Equal(want) {
			t.Errorf("%s is %v, want %v", s, got.Time(), want)
		}
	}
}

func TestStampRefuses(t *testing.T) {
	for _, s := range []string{
		"", "2026-11-25", "2026-11-25T10:00:00", "2026-11-25t10:00:00Z", "2026-11-25T10:00:00z", "2026-11-25T10:00:60Z", "2026-11-25T24:00:00Z",
		"2026-02-29T10:00:00Z", "2026-13-01T10:00:00Z", "2026-00-01T10:00:00Z", "2026-01-00T10:00:00Z", "2026-11-25T10:00:00.Z",
		"2026-11-25T10:00:00+1:00", "2026-11-25T10:00:00+0100", "2026-11-25T10:00:00+24:00", "2026-1a-25T10:00:00Z", "2026-11-25T10:00:00.1234567890Z",
	} {
		if got, _, ok := ParseStamp([]byte(s)); ok {
			t.Errorf("ParseStamp(%q) = %v, want a refusal", s, got)
		}
	}
}

func TestCivilAgreesWithTheCalendar(t *testing.T) {
	for day := time.Date(1599, 12, 30, 12, 0, 0, 0, time.UTC); day.Year() < 2402; day = day.AddDate(0, 0, 1) {
		y, m, d, clock := StampOf(day).Civil()
		if y != day.Year() || m != int(day.Month()) || d != day.Day() || clock != 43200 || daysOf(y, m, d) != day.Unix()/86400-b2i(day.Unix() < 0) {
			t.Fatalf("%v is %d-%d-%d %d", day, y, m, d, clock)
		}
	}
}

func b2i(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

func TestStampCutsDigits(t *testing.T) {
	s, _, _ := ParseStamp([]byte("2026-11-25T10:00:00.000000999Z"))
	if got := string(s.Append(nil, 6)); got != "2026-11-25T10:00:00Z" {
		t.Errorf("to microseconds: %s", got)
	}
}

func TestWords(t *testing.T) {
	if s, ok := ParseSeverity("WARN"); !ok || s != Warning {
		t.Error("WARN is not read")
	}
	if f, ok := ParseFacility("Security"); !ok || f != 4 {
		t.Error("Security is not read")
	}
	if p, ok := ParsePriority("local3.err"); !ok || p != 19*8+3 || p.String() != "local3.error" {
		t.Errorf("local3.err is %v", p)
	}
	for _, s := range []string{"", "local3", "local3.", ".error", "local8.error", "local3.3"} {
		if _, ok := ParsePriority(s); ok {
			t.Errorf("%q is read as a priority", s)
		}
	}
}

func sample() *Record {
	return &Record{
		Time: Stamp{Sec: 1795604100, Nsec: 5000, Zone: 60, Form: Numeric}, Received: Stamp{Sec: 1795604101, Form: Zulu}, Priority: 165,
		Host: []byte("reef-02"), App: []byte("pumpd"), MsgID: []byte{}, Text: []byte("stall\n\x1b[31m \u202e \xff \"quoted\" \\"),
		Data: []byte(`[tank@32473 ph="8.1" id="4" id="5"][note@32473][tank@32473 q="a\"b\]c\\d\e"]`), Intake: "wire",
		Peer: &Peer{Addr: netip.MustParseAddrPort("10.20.0.9:514")}, Raw: []byte("<165>"),
	}
}

const sampleJSON = `{"time":"2026-11-25T11:55:00.000005+01:00","received":"2026-11-25T10:55:01Z","facility":"local4","severity":"notice",` +
	`"host":"reef-02","app":"pumpd","msgid":"","text":"stall\n\u001b[31m \u202e ` + "\uFFFD" + ` \"quoted\" \\",` +
	`"fields":{"tank@32473":{"ph":"8.1","id":["4","5"],"q":"a\"b]c\\d\\e"},"note@32473":{}},` +
	`"intake":"wire","peer":{"address":"10.20.0.9:514"},"raw":"PDE2NT4="}`

func TestRecordAsJSON(t *testing.T) {
	got := string(sample().AppendJSON(nil))
	if got != sampleJSON {
		t.Errorf("got  %s\nwant %s", got, sampleJSON)
	}
	if !json.Valid([]byte(got)) {
		t.Error("not valid JSON")
	}
}

func TestRecordFromJSON(t *testing.T) {
	var r Record
	if err := r.ParseJSON([]byte(sampleJSON)); err != nil {
		t.Fatal(err)
	}
	if got := string(r.AppendJSON(nil)); got != sampleJSON {
		t.Errorf("got  %s\nwant %s", got, sampleJSON)
	}
}

func TestRecordFromBadJSON(t *testing.T) {
	for _, s := range []string{``, `[]`, `{`, `{}`, `{"time":5}`, `{"time":"yesterday"}`, `{"time":"2026-11-25T10:00:00Z","severity":"loud"}`,
		`{"time":"2026-11-25T10:00:00Z"} x`, `{"a":"\q"}`, `{"a":"\u12"}`, `{"a":tru}`, `{"a":01}`, `{"a" 1}`, `{"a":1,}`, "{\"a\":\"\n\"}",
		`{"time":"2026-11-25T10:00:00Z","fields":[]}`, `{"time":"2026-11-25T10:00:00Z","raw":"%"}`} {
		var r Record
		if err := r.ParseJSON([]byte(s)); err == nil {
			t.Errorf("%s is read as a record", s)
		}
	}
}

func TestWritingJSONAllocatesNothing(t *testing.T) {
	r, buf := sample(), make([]byte, 0, 4096)
	r.AppendJSON(buf)
	if n := testing.AllocsPerRun(100, func() { r.parsed = false; buf = r.AppendJSON(buf[:0]) }); n != 0 {
		t.Errorf("%v allocations a record", n)
	}
}

func TestClip(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"short", "pump 3 stops\n", `pump 3 stops\n`},
		{"80 characters", strings.Repeat("é", 80), strings.Repeat("é", 80)},
		{"81 characters", strings.Repeat("é", 81), strings.Repeat("é", 80) + "…"},
		{"long characters, cut by their bytes", strings.Repeat("🐟", 500), strings.Repeat("🐟", 80) + "…"},
	} {
		if got := Clip([]byte(c.text)); got != c.want {
			t.Errorf("%s: %q instead of %q", c.name, got, c.want)
		}
	}
}

func TestVisible(t *testing.T) {
	got := string(AppendVisible(nil, []byte("a\tb\x00\u0085\u2028\u2066é\xffz\\\n")))
	if want := `a\tb\u0000\u0085\u2028\u2066é\xffz\` + `\n`; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

func TestNoByteHidesInALongText(t *testing.T) {
	for c := range 256 {
		for at := range 20 {
			text := []byte("0123456789 abcdefghi")
			text[at] = byte(c)
			var back string
			if err := json.Unmarshal(AppendJSONString(nil, text), &back); err != nil || back != strings.ToValidUTF8(string(text), "\uFFFD") {
				t.Errorf("%q is written as %s", text, AppendJSONString(nil, text))
			}
			visible := string(AppendVisible(nil, text))
			if plain := c >= ' ' && c < 0x7f; plain != (visible == string(text)) || strings.ContainsFunc(visible, Dangerous) {
				t.Errorf("%q is shown as %q", text, visible)
			}
		}
	}
}

func TestBatchKeepsItsMemory(t *testing.T) {
	var b Batch
	text, data := []byte("x"), []byte("[a]")
	fill := func() {
		b.Reset()
		for range 100 {
			r := b.Next()
			if r.Text != nil || r.HasFields() {
				t.Fatal("a record used again is not empty")
			}
			r.Text, r.Data = text, data
			r.Fields()
		}
	}
	fill()
	if n := testing.AllocsPerRun(10, fill); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

func TestScanData(t *testing.T) {
	for s, want := range map[string]int{
		"-": 1, "- x": 1, "": 0, "x": 0, "[a]": 3, "[a] x": 3, "[a][b]": 6, "[a] [b]": 3, "[]": 0, "[a ]": 0, "[a b]": 0, `[a b="c"]`: 9,
		`[a b="]"]`: 9, `[a b="\"]`: 0, `[a b="\""]`: 10, `[a b="c" ]`: 0, `[a  b="c"]`: 0, `[a b=c]`: 0, `[a b="c`: 0, `[a][`: 0, `[a b="\`: 0,
	} {
		if got := ScanData([]byte(s)); got != want {
			t.Errorf("ScanData(%s) = %d, want %d", s, got, want)
		}
	}
}

func FuzzScanData(f *testing.F) {
	f.Add([]byte(`[tank@32473 ph="8.1"][a b="\"\]\\\x" b=""]`))
	f.Fuzz(func(t *testing.T, b []byte) {
		n := ScanData(b)
		r := Record{Data: b[:n]}
		if !json.Valid(r.AppendJSON(nil)) {
			t.Errorf("%q gives JSON that is not valid", b)
		}
	})
}

func FuzzParseJSON(f *testing.F) {
	f.Add([]byte(sampleJSON))
	f.Add([]byte(`{"a":[1,-2.5e+3,true,null,{"b":"\ud83d\ude00\u00e9"}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		var tree Tree
		err := tree.ParseJSON(b)
		if err == nil && !json.Valid(b) {
			t.Errorf("%q is read, but not JSON", b)
		}
		if err == nil && !json.Valid(tree.Root().AppendJSON(nil)) {
			t.Errorf("%q is not written as JSON", b)
		}
		new(Record).ParseJSON(b)
	})
}

// Whatever byte stands wherever, a stamp is read as the standard library reads it, or refused as it is there.
func TestEachByteOfAStampCounts(t *testing.T) {
	for _, whole := range []string{"2026-11-25T10:15:09.123456Z", "2024-02-29T23:59:59Z", "1999-12-31T00:00:00.5Z", "2026-11-25T10:15:09.123456Z tail"} {
		stamp, _, _ := strings.Cut(whole, " ")
		for i := range stamp {
			for c := range 256 {
				b := []byte(whole)
				b[i] = byte(c)
				s, n, ok := ParseStamp(b)
				want, err := time.Parse(time.RFC3339Nano, string(b[:len(stamp)]))
				if c == ',' || c == ' ' {
					continue // the library takes a comma for a point; a space ends the stamp
				}
				if ok && n == len(stamp) && (err != nil || s.Sec != want.Unix() || int(s.Nsec) != want.Nanosecond()) || err == nil && (!ok || n != len(stamp)) {
					t.Errorf("%q: %v, %v bytes, %v; the library: %v, %v", b, s, n, ok, want, err)
				}
			}
		}
	}
}

// An object is scanned as it is parsed: what the one takes the other does.
func FuzzScanObject(f *testing.F) {
	for _, text := range []string{`{}`, ` { "a" : 1 , "b":"x\"yé\n" } `, `{"a":[1,-2.5e3,{"b":null}],"c":true}`, `{"a":01}`, `{"a":1,}`, `{"a":"\u12"}`, `{"a":"x`, `{"a":1}x`, "{\"a\":\"\x01\"}", `{"long enough for a word":"and a value that is long, too\\"}`} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var tree Tree
		members, ok := ScanObject(b, nil)
		if parsed := tree.ParseJSON(b) == nil; parsed != ok {
			t.Fatalf("%q is scanned: %v, parsed: %v", b, ok, parsed)
		}
		if !ok {
			return
		}
		v := tree.Root().First()
		for _, m := range members {
			if key := m.Key(b); !bytes.Contains(key, []byte{'\\'}) && !bytes.Equal(key, v.Key()) || !m.Escaped && v.Kind() == String && !bytes.Equal(m.Text(b), v.Text()) || m.IsString(b) != (v.Kind() == String) {
				t.Fatalf("%q: %q is %q", b, m.Whole(b), v.AppendJSON(nil))
			}
			v = v.Next()
		}
		if v.More() {
			t.Fatalf("%q has more members than %d", b, len(members))
		}
	})
}
