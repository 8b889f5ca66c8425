package format

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/record"
)

func sample() *record.Record {
	return &record.Record{
		Time: record.StampOf(time.Date(2026, 11, 25, 10, 0, 0, 5000, time.UTC)), Priority: 165, Host: []byte("reef-02"), App: []byte("pumpd"),
		ProcID: []byte("412"), Text: []byte("stall:\n<0>forged \x1b[2J]"), Data: []byte(`[tank@32473 id="4"]`), Intake: "wire",
	}
}

func mustParse(t *testing.T, s string) *Format {
	t.Helper()
	f, err := Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func TestAppendLine(t *testing.T) {
	for format, want := range map[string]string{
		"{time} {host} {app}[{procid}] {severity}: {text}":  `2026-11-25T10:00:00.000005Z reef-02 pumpd[412] notice: stall:\n<0>forged \u001b[2J]`,
		"{{{Facility}}} {msgid} {fields} {intake} {peer} é": `{local4} - {"tank@32473":{"id":"4"}} wire - é`,
		`{severity upper width 8}|{msgid else "none"} {field tank@32473.id} {field tank@32473} {field x else ""}|{fields as keyvalue}|{app width 2}|{text lower}`: `NOTICE  |none 4 {"id":"4"} |tank@32473.id=4|pumpd|stall:\n<0>forged \u001b[2j]`,
		`{time as "DD MON YYYY, hh:mm:ss.ffffff zzz"} {time in Asia/Tokyo} {time as unix} {time in America/New_York as "hh:mm"}`:                                  `25 Nov 2026, 10:00:00.000005 +00:00 2026-11-25T19:00:00.000005+09:00 1795600800 05:00`,
		"RFC3164": `<165>Nov 25 10:00:00 reef-02 pumpd[412]: stall:\n<0>forged \u001b[2J]`,
		"rfc5424": `<165>1 2026-11-25T10:00:00.000005Z reef-02 pumpd 412 - [escaped@32473][tank@32473 id="4"] stall:\n<0>forged \x1b[2J]`,
		"json":    `{"time":"2026-11-25T10:00:00.000005Z","facility":"local4","severity":"notice","host":"reef-02","app":"pumpd","procid":"412","text":"stall:\n<0>forged \u001b[2J]","fields":{"tank@32473":{"id":"4"}},"intake":"wire"}`,
	} {
		if got := string(mustParse(t, format).AppendLine(nil, sample())); got != want+"\n" {
			t.Errorf("%s\n got %s\nwant %s", format, got, want)
		}
	}
}

func TestReadGivesBackWhatWasWritten(t *testing.T) {
	for _, format := range []string{"json", "rfc5424", "{time} {host} {app}[{procid}] {facility}.{severity} {msgid}: {text}", "{text} | {severity} {host}", "[{time}] {text}",
		`{time in Europe/Lisbon as "YYYY-MM-DDThh:mm:ss.ffffffzzz"} {severity upper width 9} {msgid else none}: {text}`, `{time as unix} {app width 20}|{text}`} {
		f, written, r := mustParse(t, format), sample(), new(record.Record)
		line := f.AppendLine(nil, written)
		if err := f.Read(r, line[:len(line)-1]); err != nil {
			t.Errorf("%s: %v", format, err)
		}
		if again := string(f.AppendLine(nil, r)); again != string(line) {
			t.Errorf("%s\n wrote %s then  %s", format, line, again)
		}
	}
}

func TestReadRefusesOtherLines(t *testing.T) {
	f := mustParse(t, "[{time}] {severity}: {text}.")
	for _, line := range []string{"", "[now] info: x.", "[2026-11-25T10:00:00Z] loud: x.", "[2026-11-25T10:00:00Z] info x.", "[2026-11-25T10:00:00Z] info: x"} {
		if err := f.Read(new(record.Record), []byte(line)); err == nil {
			t.Errorf("%q is read", line)
		}
	}
}

func TestGuess(t *testing.T) {
	for line, want := range map[string]string{
		`{"time":"2026-11-25T10:00:00Z","text":"x"}`: "x", "<13>1 - - - - - - y": "y", "plain": "plain", "{not json": "{not json", "": "",
	} {
		var r record.Record
		if Guess(&r, []byte(line)); string(r.Text) != want {
			t.Errorf("%s: text %q, want %q", line, r.Text, want)
		}
	}
}

func TestErrors(t *testing.T) {
	for format, want := range map[string]string{
		"jsn": `0: there is no format "jsn"; did you mean json?`, "text": `0: there is no format "text"; write json`,
		"{time} {sevrity}": `8: a record has no property "sevrity"; did you mean {severity}?`, "{time} {": "7: this { is not closed", "{time} }": "7: this } closes nothing",
		"{time}\t{text}": "6: a control character may not stand in a format", "{time}\n": "6: a control character", `{time in Lantern/Bay}`: `9: there is no time zone "Lantern/Bay"`, `{time as "yyyy"}`: `9: a time has no part "yyyy"`, "{app as unix}": `5: {app} has no option "as"`, "{app width x}": `11: width cannot be "x"`,
		"{app width}": "5: width needs a value", `{app else "}`: "10: this \" is not closed", "{field}": "1: field needs a path", "{field a..b}": "9: a part of the field's path is empty", "{fields as xml}": `11: fields cannot be written as "xml"`,
		"{}": `1: a record has no property ""`,
	} {
		_, err := Parse(format)
		e, ok := err.(*Error)
		if !ok || !strings.HasPrefix(fmt.Sprintf("%d: %s", e.Offset, e), want) {
			t.Errorf("%s: %v, want %s", format, err, want)
		}
	}
}

func TestAppendLineAllocatesNothing(t *testing.T) {
	r := sample()
	r.Text = []byte("stall")
	for _, format := range []string{"json", "rfc5424", "rfc3164", "{time} {host} {app}[{procid}] {severity}: {text}"} {
		f, buf := mustParse(t, format), make([]byte, 0, 4096)
		if n := testing.AllocsPerRun(10, func() { buf = f.AppendLine(buf[:0], r) }); n != 0 {
			t.Errorf("%s: %v allocations", format, n)
		}
	}
}

func FuzzTemplate(f *testing.F) {
	f.Add("{time} {{x}} {text}", "a\nb")
	f.Fuzz(func(t *testing.T, format, text string) {
		parsed, err := Parse(format)
		if err != nil {
			return
		}
		r := sample()
		r.Text = []byte(text)
		if line := parsed.AppendLine(nil, r); strings.Count(string(line), "\n") != 1 {
			t.Errorf("%q writes %q", format, line)
		}
	})
}
