package wire

import (
	"strings"
	"testing"
	"time"

	"oakbarrel/core/record"
)

var received = record.StampOf(time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC))

func parse(msg string) *record.Record {
	r := &record.Record{Received: received}
	p := Parser{Zone: time.UTC, Default: record.DefaultPriority}
	p.Parse(r, []byte(msg))
	return r
}

// asText writes the properties of r one after the other, "~" for a missing one.
func asText(r *record.Record) string {
	var b strings.Builder
	b.WriteString(r.Priority.String() + "|" + r.Time.String())
	for _, v := range [][]byte{r.Host, r.App, r.ProcID, r.MsgID, r.Data, r.Text} {
		if v == nil {
			v = []byte("~")
		}
		b.WriteString("|" + string(v))
	}
	if r.Unparsed {
		b.WriteString("|unparsed")
	}
	return b.String()
}

const now = "2026-11-25T10:00:00Z"

var messages = []struct{ name, message, want string }{
	// RFC 5424
	{"whole", `<165>1 2003-10-11T22:14:15.003Z reef-02 pumpd 412 ID47 [tank@32473 id="4"] stall`, `local4.notice|2003-10-11T22:14:15.003Z|reef-02|pumpd|412|ID47|[tank@32473 id="4"]|stall`},
	{"all nil", `<0>1 - - - - - -`, "kern.emergency|" + now + "|~|~|~|~|~|~"},
	{"largest priority", `<191>1 - - - - - - x`, "local7.debug|" + now + "|~|~|~|~|~|x"},
	{"offset", `<34>1 2003-08-24T05:14:15.000003-07:00 h a - - - x`, "auth.critical|2003-08-24T05:14:15.000003-07:00|h|a|~|~|~|x"},
	{"mark of UTF-8", "<34>1 - h a - - - \xef\xbb\xbfé", "auth.critical|" + now + "|h|a|~|~|~|é"},
	{"spaces in the text are kept", "<34>1 - h a - - -   x ", "auth.critical|" + now + "|h|a|~|~|~|  x "},
	{"empty text", "<34>1 - h a - - - ", "auth.critical|" + now + "|h|a|~|~|~|"},
	{"data without text", `<34>1 - h a - - [x y="z"][w]`, "auth.critical|" + now + `|h|a|~|~|[x y="z"][w]|~`},
	{"any bytes", "<34>1 - h a - - - \xff\x00\x01", "auth.critical|" + now + "|h|a|~|~|~|\xff\x00\x01"},
	{"longer names than allowed", "<34>1 - h " + strings.Repeat("a", 100) + " - - - x", "auth.critical|" + now + "|h|" + strings.Repeat("a", 100) + "|~|~|~|x"},
	{"bad data", `<34>1 - h a 1 m [x y=z] t`, "auth.critical|" + now + `|h|a|1|m|~|[x y=z] t|unparsed`},
	{"no data", `<34>1 - h a 1 m`, "auth.critical|" + now + `|~|~|~|~|~|1 - h a 1 m|unparsed`},
	{"data left out", `<34>1 - h a 1 m hello`, "auth.critical|" + now + `|h|a|1|m|~|hello|unparsed`},
	{"second 60", `<34>1 2016-12-31T23:59:60Z h a - - - x`, "auth.critical|" + now + `|~|~|~|~|~|1 2016-12-31T23:59:60Z h a - - - x|unparsed`},
	{"two spaces", `<34>1 -  h a - - - x`, "auth.critical|" + now + `|~|~|~|~|~|1 -  h a - - - x|unparsed`},

	// RFC 3164
	{"whole", "<34>Oct 11 22:14:15 kelp-01 ticketd[77]: sold", "auth.critical|2026-10-11T22:14:15Z|kelp-01|ticketd|77|~|~|sold"},
	{"no pid", "<34>Oct 11 22:14:15 kelp-01 ticketd: sold", "auth.critical|2026-10-11T22:14:15Z|kelp-01|ticketd|~|~|~|sold"},
	{"padded day", "<34>Oct  1 22:14:15 kelp-01 ticketd: sold", "auth.critical|2026-10-01T22:14:15Z|kelp-01|ticketd|~|~|~|sold"},
	{"day of one digit", "<34>Oct 1 22:14:15 kelp-01 ticketd: sold", "auth.critical|2026-10-01T22:14:15Z|kelp-01|ticketd|~|~|~|sold"},
	{"day with a nought", "<34>Oct 01 22:14:15 kelp-01 ticketd: sold", "auth.critical|2026-10-01T22:14:15Z|kelp-01|ticketd|~|~|~|sold"},
	{"no host", "<34>Oct 11 22:14:15 ticketd[77]: sold: 3", "auth.critical|2026-10-11T22:14:15Z|~|ticketd|77|~|~|sold: 3"},
	{"no tag", "<34>Oct 11 22:14:15 kelp-01 sold three of them: 3", "auth.critical|2026-10-11T22:14:15Z|kelp-01|~|~|~|~|sold three of them: 3"},
	{"a word alone", "<34>Oct 11 22:14:15 kelp-01", "auth.critical|2026-10-11T22:14:15Z|kelp-01|~|~|~|~|"},
	{"host is an address", "<34>Oct 11 22:14:15 fe80::1 a/b_c.d-e: x", "auth.critical|2026-10-11T22:14:15Z|fe80::1|a/b_c.d-e|~|~|~|x"},
	{"empty text", "<34>Oct 11 22:14:15 h a:", "auth.critical|2026-10-11T22:14:15Z|h|a|~|~|~|"},
	{"text keeps its spaces", "<34>Oct 11 22:14:15 h a:   x ", "auth.critical|2026-10-11T22:14:15Z|h|a|~|~|~|  x "},
	{"nearest year, before", "<34>Dec 31 23:59:59 h a: x", "auth.critical|2026-12-31T23:59:59Z|h|a|~|~|~|x"},
	{"nearest year, after", "<34>Jan  2 00:00:00 h a: x", "auth.critical|2027-01-02T00:00:00Z|h|a|~|~|~|x"},
	{"leap day", "<34>Feb 29 00:00:00 h a: x", "auth.critical|2028-02-29T00:00:00Z|h|a|~|~|~|x"},
	{"no such day", "<34>Feb 30 00:00:00 h a: x", "auth.critical|" + now + "|~|~|~|~|~|Feb 30 00:00:00 h a: x|unparsed"},
	{"stamp of RFC 3339", "<34>2026-11-25T09:00:00.5+01:00 h a[1]: x", "auth.critical|2026-11-25T09:00:00.5+01:00|h|a|1|~|~|x"},
	{"year before the clock", "<34>Oct 11 2024 22:14:15 h a: x", "auth.critical|2024-10-11T22:14:15Z|h|a|~|~|~|x"},
	{"year after the clock", "<34>Oct 11 22:14:15 2024 h a: x", "auth.critical|2024-10-11T22:14:15Z|h|a|~|~|~|x"},
	{"zone", "<34>Oct 11 22:14:15 CET h a: x", "auth.critical|2026-10-11T22:14:15+01:00|h|a|~|~|~|x"},
	{"zone and colon", "<34>Oct 11 22:14:15.123 UTC: %PORT-5-UP: x", "auth.critical|2026-10-11T22:14:15.123Z|~|%PORT-5-UP|~|~|~|x"},
	{"year and zone", "<34>Oct 11 22:14:15 2024 CEST h a: x", "auth.critical|2024-10-11T22:14:15+02:00|h|a|~|~|~|x"},
	{"milliseconds", "<34>Oct 11 22:14:15.042 h a: x", "auth.critical|2026-10-11T22:14:15.042Z|h|a|~|~|~|x"},
	{"counter and star", "<189>29: *Oct 11 22:14:15.042: h a: x", "local7.notice|2026-10-11T22:14:15.042Z|h|a|~|~|~|x"},
	{"a tag alone", "<13>ticketd[77]: sold", "user.notice|" + now + "|~|ticketd|77|~|~|sold"},
	{"a tag without pid alone", "<13>ticketd: sold", "user.notice|" + now + "|~|ticketd|~|~|~|sold"},
	{"no tag and no stamp", "<14>sold three", "user.info|" + now + "|~|~|~|~|~|sold three|unparsed"},
	{"a time is no tag", "<14>10:15:00 sold", "user.info|" + now + "|~|~|~|~|~|10:15:00 sold|unparsed"},
	{"a URL is no tag", "<14>http://x", "user.info|" + now + "|~|~|~|~|~|http://x|unparsed"},
	{"nothing but a priority", "<14>", "user.info|" + now + "|~|~|~|~|~||unparsed"},

	// nothing recognisable
	{"no priority", "sold: three", "user.notice|" + now + "|~|~|~|~|~|sold: three|unparsed"},
	{"too large", "<192>Oct 11 22:14:15 h a: x", "user.notice|" + now + "|~|~|~|~|~|<192>Oct 11 22:14:15 h a: x|unparsed"},
	{"leading nought", "<013>a: x", "user.notice|" + now + "|~|~|~|~|~|<013>a: x|unparsed"},
	{"no digits", "<>x", "user.notice|" + now + "|~|~|~|~|~|<>x|unparsed"},
	{"empty", "", "user.notice|" + now + "|~|~|~|~|~||unparsed"},
}

func TestParse(t *testing.T) {
	for _, m := range messages {
		t.Run(m.name, func(t *testing.T) {
			if got := asText(parse(m.message)); got != m.want {
				t.Errorf("%q\n got %s\nwant %s", m.message, got, m.want)
			}
		})
	}
}

// Programs of a host do not name it, and may have any name.
func TestProgramsOfThisHost(t *testing.T) {
	for message, want := range map[string]string{
		"<13>Oct 11 22:14:15 Joe App: sold":                          "~|Joe App|~|sold",
		"<13>Oct 11 22:14:15 Joe App[77]: sold: 3":                   "~|Joe App|77|sold: 3",
		"<13>Oct 11 22:14:15 ticketd[77]: sold":                      "~|ticketd|77|sold",
		"<13>Oct 11 22:14:15 Joe App:":                               "~|Joe App|~|",
		"<13>Oct 11 22:14:15 sold three of them":                     "~|~|~|sold three of them",
		"<13>Oct 11 22:14:15 door (7): open":                         "~|door (7)|~|open",
		"<13>ticketd: sold":                                          "~|ticketd|~|sold",
		"<13>1 - kelp-01 ticketd 77 - - sold":                        "kelp-01|ticketd|77|sold",
		"<13>Oct 11 22:14:15 " + strings.Repeat("x ", 40) + ": sold": "~|~|~|" + strings.Repeat("x ", 40) + ": sold",
	} {
		r := &record.Record{Received: received}
		p := Parser{Zone: time.UTC, Local: true}
		p.Parse(r, []byte(message))
		fields := strings.Split(asText(r), "|")
		if got := strings.Join(append(fields[2:5], fields[7]), "|"); got != want {
			t.Errorf("%q\n got %s\nwant %s", message, got, want)
		}
	}
}

func TestAHostIsClaimedOverTheWire(t *testing.T) {
	r := &record.Record{Time: received, App: []byte("pumpd"), Text: []byte("a - b")}
	if got := string(ClaimHost(AppendRFC5424(nil, r), []byte("reef-02"))); got != "<0>1 2026-11-25T10:00:00Z reef-02 pumpd - - - a - b" {
		t.Error(got)
	}
}

func TestStampTakesTheZoneOfTheIntake(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("no zone data")
	}
	p := Parser{Zone: zone}
	for stamp, want := range map[string]string{"Jul 11 22:14:15": "2026-07-11T22:14:15+02:00", "Nov 11 22:14:15": "2026-11-11T22:14:15+01:00", "Jul 11 22:14:15 CEST": "2026-07-11T22:14:15+02:00"} {
		r := &record.Record{Received: received}
		p.Parse(r, []byte("<34>"+stamp+" h a: x"))
		if r.Time.String() != want {
			t.Errorf("%s is %s, want %s", stamp, r.Time, want)
		}
	}
}

func TestDatagramEnds(t *testing.T) {
	for in, want := range map[string]string{"x": "x", "x\n": "x", "x\x00": "x", "x\n\x00": "x", "x\x00\n": "x", "x\r\n": "x", "x\r\n\x00": "x", "x\r": "x\r", "x\n\n": "x\n", "\n": "", "\x00": "", "": ""} {
		if got := string(TrimDatagram([]byte(in))); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}

func TestWritingAndReadingLosesNothing(t *testing.T) {
	for _, m := range messages {
		if m.name != "longer names than allowed" {
			checkRoundTrip(t, m.message)
		}
	}
	checkRoundTrip(t, "<34>1 - h a - - [x y=\"1\n2\\\\n\"] one\ntwo\\n\x00\x7f\r\ttab")
	checkRoundTrip(t, "<34>1 - h a - - - \xef\xbb\xbf\xef\xbb\xbfx")
}

func checkRoundTrip(t *testing.T, message string) {
	t.Helper()
	r := parse(message)
	line := AppendRFC5424Line(nil, r)
	if strings.ContainsAny(string(line), "\n\x00") {
		t.Errorf("%q is written as more than a line: %q", message, line)
	}
	for form, written := range map[string][]byte{"line": line, "message": AppendRFC5424(nil, r)} {
		again := parse(string(written))
		want, got := *r, *again
		want.Unparsed = false
		want.Time.Nsec -= want.Time.Nsec % 1000
		if asText(&got) != asText(&want) {
			t.Errorf("%s: %q\nis read as %s\n   instead of %s", form, written, asText(&got), asText(&want))
		}
	}
}

func TestWritingIsStrict(t *testing.T) {
	r := &record.Record{Time: received, Priority: 13, Host: []byte("réf"), App: []byte(strings.Repeat("a", 60)), ProcID: []byte("1 2"), MsgID: []byte{}, Text: []byte("x"), Cut: true}
	want := "<13>1 2026-11-25T10:00:00Z r??f " + strings.Repeat("a", 48) + " 1?2 - [cut@32473] x"
	if got := string(AppendRFC5424(nil, r)); got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	want = "<13>Nov 25 10:00:00 r??f " + strings.Repeat("a", 48) + `[1?2]: one\ntwo`
	r.Text = []byte("one\ntwo")
	if got := string(AppendRFC3164Line(nil, r)); got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
}

func TestOldFormIsReadBack(t *testing.T) {
	r := parse("<34>Oct  1 22:14:15 kelp-01 ticketd[77]: sold")
	if got := string(AppendRFC3164Line(nil, r)); got != "<34>Oct  1 22:14:15 kelp-01 ticketd[77]: sold" {
		t.Error(got)
	}
	r = parse(string(AppendRFC3164Line(nil, parse("<34>1 - - - - - - x: y"))))
	if r.Host != nil || r.App != nil || string(r.Text) != "x: y" {
		t.Errorf("missing properties come back as %s", asText(r))
	}
}

func TestParsingAllocatesNothing(t *testing.T) {
	p := Parser{Zone: time.UTC}
	var r record.Record
	for _, m := range messages {
		b := []byte(m.message)
		if n := testing.AllocsPerRun(20, func() { r.Reset(); r.Received = received; p.Parse(&r, b) }); n != 0 && !strings.Contains(m.message, "CE") {
			t.Errorf("%s: %v allocations", m.name, n)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, m := range messages {
		f.Add([]byte(m.message))
	}
	f.Add([]byte("<34>1 - h a - - [escaped@32473][x y=\"a\\\\n\"] \\x41"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := parse(string(b))
		for _, v := range [][]byte{r.Host, r.App, r.ProcID, r.MsgID} {
			if len(v) == 0 && v != nil || len(v) > 32 || strings.IndexFunc(string(v), func(c rune) bool { return c <= ' ' || c >= 0x7f }) >= 0 {
				return // names that RFC 5424 cannot write are changed
			}
		}
		checkRoundTrip(t, string(b))
	})
}

// Fields of any form can be written as structured data; texts in elements come back as they were.
func TestNestedFieldsAsStructuredData(t *testing.T) {
	for data, want := range map[string]string{
		`{"tank@32473":{"id":"4","note":"a ] b"}}`:                              `[tank@32473 id="4" note="a \] b"]`,
		`{"tank":{"id":"4","tags":["x","y"]},"ph":8.1,"deep":{"a":{"b":true}}}`: `[tank id="4" tags="x" tags="y"][fields@32473 ph="8.1" deep.a.b="true"]`,
		`{"ü name":{"x":"y"},"n":null,"l":[1,{"k":"v"}]}`:                       `[fields@32473 ___name.x="y" n="" l="1" l.k="v"]`,
		`{"cut@32473":{}}`: "-",
	} {
		r := record.Record{Data: []byte(data)}
		got := string(AppendRFC5424Line(nil, &r))
		if !strings.HasSuffix(got, " "+want) {
			t.Errorf("%s is written as %s, want %s", data, got, want)
		}
		var back record.Record
		p := Parser{}
		if p.Parse(&back, []byte(got)); back.Unparsed {
			t.Errorf("%s cannot be read", got)
		}
	}
}
