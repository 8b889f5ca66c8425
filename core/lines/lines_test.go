package lines

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/decode"
	"oakbarrel/core/record"
)

var (
	now      = record.StampOf(time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC))
	defaults = record.MakePriority(1, record.Notice)
)

func expect(t testing.TB, what string, got, want any) {
	t.Helper()
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%s:\n got %v\nwant %v", what, got, want)
	}
}

// texts returns the texts of the records that lines make.
func texts(s Settings, lines ...string) (all []string) {
	s.Default = defaults
	m := NewMaker("", &s)
	var out Out
	for _, l := range lines {
		m.Add(&out, &Line{Text: []byte(l), Received: now})
	}
	m.Flush(&out)
	for _, r := range out.Batch.Records {
		all = append(all, string(r.Text))
	}
	return all
}

// one returns the record that a line makes, as JSON without what all have.
func one(s Settings, line string) string {
	s.Default, s.Reading.Zone = defaults, time.UTC
	m := NewMaker("", &s)
	var out Out
	m.Add(&out, &Line{Text: []byte(line), Received: now})
	m.Flush(&out)
	if len(out.Batch.Records) != 1 {
		return fmt.Sprint(len(out.Batch.Records), " records")
	}
	r := &out.Batch.Records[0]
	r.Raw = nil
	text := string(r.AppendJSON(nil))
	text = strings.Replace(text, `"received":"2026-11-25T10:15:00Z",`, "", 1)
	text = strings.Replace(text, `"time":"2026-11-25T10:15:00Z",`, "", 1)
	text = strings.Replace(text, `"facility":"user",`, "", 1)
	text = strings.Replace(text, `"severity":"notice",`, "", 1)
	if r.Unparsed {
		text += " unparsed"
	}
	return text
}

func TestLinesOfOneEventAreJoined(t *testing.T) {
	java := []string{
		"2026-11-25 10:15:00 ERROR the pump does not answer",
		"bay.lantern.PumpException: no answer",
		"\tat bay.lantern.Pump.ask(Pump.java:41)",
		"\tat bay.lantern.Main.main(Main.java:7)",
		"Caused by: java.net.SocketTimeoutException: Read timed out",
		"\tat java.net.Socket.read(Socket.java:99)",
		"\t... 2 more",
		"... 12 common frames omitted",
	}
	python := []string{
		"Traceback (most recent call last):",
		`  File "probe.py", line 4, in <module>`,
		"    read()",
		"ValueError: salinity out of range",
		"",
		"During handling of the above exception, another exception occurred:",
		"",
		"Traceback (most recent call last):",
		`  File "probe.py", line 6, in <module>`,
		"RuntimeError: probe is dead",
	}
	golang := []string{
		"panic: runtime error: index out of range [3] with length 3",
		"",
		"goroutine 1 [running]:",
		"main.fill(...)",
		"\t/src/tank.go:12",
		"main.main()",
		"\t/src/tank.go:20 +0x1d",
		"created by main.start in goroutine 1",
		"\t/src/tank.go:30 +0x25",
	}
	served := []string{"2026/11/25 10:15:00 http: panic serving 127.0.0.1:4000: empty tank", "goroutine 18 [running]:", "net/http.(*conn).serve.func1()", "\t/go/server.go:1801 +0xb9"}
	jul := []string{"Nov 25, 2026 10:15:00 AM lantern.bay.Pump start", "SEVERE: no answer", "lantern.bay.PumpException: no answer", "\tat lantern.bay.Pump.ask(Pump.java:41)", "Caused by: java.io.IOException: x", "\t... 2 more"}
	quiet := []string{"Nov 25, 2026 10:15:01 AM lantern.bay.Pump start", "INFO: up"}
	node := []string{"/srv/tickets/app.js:12", "    throw new TicketError('sold out');", "    ^", "", "TicketError: sold out", "    at sell (/srv/tickets/app.js:12:11)", "    at Object.<anonymous> (/srv/tickets/app.js:20:1) {", "  code: 'E_SOLD'", "}", "", "Node.js v18.19.0"}
	small := []string{"Nov 9, 2026 9:15:00 AM Feed main", "SEVERE: tank 4 not fed", "java.lang.IllegalStateException: no krill", "\tat Feed.main(Feed.java:8)"}
	later := []string{"/srv/till.js:6", "setTimeout(() => { null.sell(); }, 5);", "                        ^", "", "TypeError: Cannot read properties of null (reading 'sell')", "    at Timeout._onTimeout (/srv/till.js:6:25)", "", "Node.js v20.20.2"}
	ruby := []string{"feed.rb:3:in `feed': no krill (RuntimeError)", "\tfrom feed.rb:7:in `<main>'"}
	php := []string{"PHP Fatal error:  Uncaught Exception: no krill in /srv/feed.php:3", "Stack trace:", "#0 /srv/feed.php(7): feed()", "#1 {main}", "  thrown in /srv/feed.php on line 3"}
	dotnet := []string{"Unhandled exception. System.InvalidOperationException: no krill", " ---> System.IO.IOException: x", "   at Feed.Open() in /src/feed.cs:line 3", "   --- End of inner exception stack trace ---", "   at Feed.Main() in /src/feed.cs:line 9"}
	alone := []string{"java.lang.IllegalStateException: no krill", "\tat lantern.bay.Feed.main(Feed.java:7)"}
	indented := Settings{Join: Join{Indented: true}}
	starts := Settings{Join: Join{Starts: regexp.MustCompile(`^\d{4}-`)}}
	for _, c := range []struct {
		name   string
		s      Settings
		events [][]string
	}{
		{"java", indented, [][]string{{"before"}, java, {"after"}}},
		{"python", indented, [][]string{{"before"}, python, {"after"}}},
		{"python, below the line of a logger", indented, [][]string{{"before"}, append([]string{"2026-11-25 10:15:00,001 ERROR no portion"}, python...), {"after"}}},
		{"go", indented, [][]string{{"before"}, golang, {"exit status 2"}, {"after"}}},
		{"java's own logger", indented, [][]string{quiet, jul, small, quiet, alone}},
		{"node", indented, [][]string{{"before"}, node, later, {"after"}}},
		{"places", indented, [][]string{{"/srv/a.js:1"}, {"/srv/b.js:2"}, {"/srv/c.js:3"}, {"file:///srv/a.js:4", "a()"}}},
		{"node, below the line of a logger", indented, [][]string{{"ERROR cannot sell", "TicketError: sold out", "    at sell (/srv/tickets/app.js:12:11)"}, {"after"}}},
		{"ruby", indented, [][]string{{"before"}, ruby, {"after"}}},
		{"php", indented, [][]string{{"before"}, php, {"after"}}},
		{".net", indented, [][]string{{"before"}, dotnet, {"after"}}},
		{"an exception below a line that names no fault", indented, [][]string{{"GET /tanks 200"}, alone, {strings.Repeat("data ", 100)}, alone, {"INFO up"}, alone, append([]string{"WARN low"}, alone...)}},
		{"a place that is none", indented, [][]string{{"/srv/app.js:12:"}, {"TypeError: x"}, {"10.20.0.7:80"}, {"}"}}},
		{"a served panic", indented, [][]string{served, {"after"}}},
		{"indented lines", indented, [][]string{{"one", "  two", "\tthree"}, {"four"}, {"five", " six"}}},
		{"one trace after the other", indented, [][]string{python, python, golang, java}},
		{"starts", starts, [][]string{{"lost head"}, {"2026-11-25 a", "b", "", "c"}, {"2026-11-26 d"}}},
		{"no join", Settings{}, [][]string{{"one"}, {"  two"}, {"three"}}},
	} {
		var given, want []string
		for _, e := range c.events {
			given = append(given, e...)
			want = append(want, strings.Join(e, "\n"))
		}
		expect(t, c.name, texts(c.s, given...), want)
	}
}

func TestAnEmptyLineIsNoRecord(t *testing.T) {
	expect(t, "texts", texts(Settings{}, "one", "", "two"), []string{"one", "two"})
	expect(t, "after an event", texts(Settings{Join: Join{Indented: true}}, "one", "", "two"), []string{"one", "two"})
}

func TestAnEventThatIsTooLargeIsCutAndMarked(t *testing.T) {
	s := Settings{Largest: 10, Join: Join{Indented: true}, Default: defaults}
	m := NewMaker("", &s)
	var out Out
	for i, l := range []string{"12345", " 789012", " more", "next one is long"} {
		m.Add(&out, &Line{Text: []byte(l), Start: int64(i) * 20, End: int64(i)*20 + 20})
	}
	start, waiting := m.Waiting()
	expect(t, "waits from", fmt.Sprint(start, waiting), "60 true")
	m.Flush(&out)
	r := out.Batch.Records
	expect(t, "records", len(r), 2)
	expect(t, "first", fmt.Sprintf("%q %v %d", r[0].Text, r[0].Cut, r[0].End), `"12345\n 789" true 60`)
	expect(t, "second", fmt.Sprintf("%q %v %d", r[1].Text, r[1].Cut, r[1].End), `"next one i" true 80`)
}

func TestSeverityIsFoundNearTheStartOnly(t *testing.T) {
	for line, want := range map[string]string{
		"ERROR the pump is dry":                                      "error",
		"2026-11-25T10:15:00Z WARN low water":                        "warning",
		"2026-11-25 10:15:00,123 - root - ERROR - dry":               "error",
		"2026-11-25 10:15:00,123 [main] INFO  bay.lantern.Pump - up": "info",
		"2026/11/25 10:15:00 [crit] 7#7: *1 no file":                 "critical",
		"[error] something":                                          "error",
		"<warn> something":                                           "warning",
		"WARNING:root:salinity is low":                               "warning",
		"error: cannot open /srv/tank":                               "error",
		"Warning: low water":                                         "warning",
		"level=debug msg=x":                                          "debug",
		`ts=2026-11-25T10:15:00Z lvl="trace" msg=x`:                  "debug",
		"10:15:00.123 | FATAL | tank":                                "critical",
		"[2026-11-25 10:15:00] production.ERROR: x":                  "",
		"E1125 10:15:00 started":                                     "error",
		"the ERROR rate is zero":                                     "",
		"no error occurred":                                          "",
		"there was an error: none":                                   "",
		"errors were 0":                                              "",
		"ERRORS were 0":                                              "",
		"pump started, INFO follows":                                 "",
		"":                                                           "",
		"info":                                                       "",
		"INFO":                                                       "info",
		"2026-11-25T10:15:00Z, ERROR the pump is dry":                "error",
		"2026-11-25T10:15:00Z info: up":                              "info",
		"2026-11-25T10:15:00Z pumpd error: dry":                      "",
		`10.20.0.7 - - [25/Nov/2026:10:15:00 +0000] "GET /error HTTP/1.1" 500 12`: "",
	} {
		got := ""
		if s, ok := decode.FindSeverity([]byte(line)); ok {
			got = s.String()
		}
		expect(t, line, got, want)
		if want == "" {
			want = "notice" // the default
		}
		var out Out
		if NewMaker("", &Settings{Default: defaults}).Add(&out, &Line{Text: []byte(line)}); line != "" {
			expect(t, "the record of "+line, out.Batch.Records[0].Severity().String(), want)
		}
	}
}

func TestDecoding(t *testing.T) {
	form := func(f decode.Form) Settings {
		if f == "" {
			return Settings{}
		}
		return Settings{Decode: []decode.Step{{Form: f}}}
	}
	pattern := Settings{Decode: []decode.Step{{Form: decode.Pattern, Pattern: regexp.MustCompile(`^(?P<time>\S+) (?P<severity>\w+) (?P<app>[\w-]+)\[(?P<procid>\d+)\] tank=(?P<tank>\d+) (?P<text>.*)$`)}}}
	own := Settings{Decode: []decode.Step{{Form: decode.JSON, Time: []string{"when"}, Severity: []string{"how_bad"}, Text: []string{"what"}}}}
	placed := form(decode.JSON)
	placed.Fields = NewFields("file@32473", record.Label{Name: "path", Value: "/srv/a.log"})
	placedText := form("")
	placedText.Fields = placed.Fields
	placedPairs := form(decode.KeyValue)
	placedPairs.Fields = placed.Fields.And(NewFields("label@32473", record.Label{Name: "team", Value: "pumps"}))
	placedPattern := Settings{Fields: placed.Fields, Decode: []decode.Step{{Form: decode.Pattern, Pattern: regexp.MustCompile(`^(?P<word>\w+) (?P<text>.*)`)}}}
	for _, c := range []struct {
		name string
		s    Settings
		line string
		want string
	}{
		{"json", form(decode.JSON), `{"time":"2026-11-25T09:00:00Z","level":"WARN","msg":"low","tank":{"id":4,"ph":8.1}}`,
			`{"time":"2026-11-25T09:00:00Z","severity":"warning","text":"low","fields":{"tank":{"id":4,"ph":8.1}}}`},
		{"json without fields", form(decode.JSON), `{"msg":"low"}`, `{"text":"low"}`},
		{"json with escapes", form(decode.JSON), `{"message":"a\nb","x":"\u00e9"}`, `{"text":"a\nb","fields":{"x":"é"}}`},
		{"json, seconds", form(decode.JSON), `{"ts":1795600800.25,"lvl":30,"text":"x"}`, `{"time":"2026-11-25T10:00:00.25Z","severity":"info","text":"x","fields":{"level":30}}`},
		{"json, milliseconds", form(decode.JSON), `{"timestamp":1795600800250,"severity":3,"msg":"x"}`, `{"time":"2026-11-25T10:00:00.25Z","severity":"error","text":"x"}`},
		{"json without a text", form(decode.JSON), `{"tank":4}`, `{"text":"{\"tank\":4}","fields":{"tank":4}}`},
		{"json with an unknown level", form(decode.JSON), `{"level":"odd","msg":"x"}`, `{"text":"x","fields":{"level":"odd"}}`},
		{"json, own names", own, `{"when":"2026-11-25T09:00:00Z","how_bad":"err","what":"x","msg":"y"}`, `{"time":"2026-11-25T09:00:00Z","severity":"error","text":"x","fields":{"msg":"y"}}`},
		{"json that is none", form(decode.JSON), `ERROR {"half":`, `{"severity":"error","text":"ERROR {\"half\":"} unparsed`},
		{"json with the file", placed, `{"msg":"x","tank":4}`, `{"text":"x","fields":{"tank":4,"file@32473":{"path":"/srv/a.log"}}}`},
		{"json without fields, with the file", placed, `{"msg":"x"}`, `{"text":"x","fields":{"file@32473":{"path":"/srv/a.log"}}}`},
		{"text with the file", placedText, `x`, `{"text":"x","fields":{"file@32473":{"path":"/srv/a.log"}}}`},
		{"key and value", form(decode.KeyValue), `level=warn msg="two \"words\"" took=12ms ok`, `{"severity":"warning","text":"two \"words\"","fields":{"took":"12ms","ok":true}}`},
		{"key and value, none", form(decode.KeyValue), `just words here`, `{"text":"just words here"} unparsed`},
		{"key and value, unfinished", form(decode.KeyValue), `a="b`, `{"text":"a=\"b","fields":{"a":"b"}}`},
		{"key and value with two elements", placedPairs, `msg=x`, `{"text":"x","fields":{"file@32473":{"path":"/srv/a.log"},"label@32473":{"team":"pumps"}}}`},
		{"pattern", pattern, `2026-11-25T09:00:00Z ERROR pumpd[12] tank=4 dry`, `{"time":"2026-11-25T09:00:00Z","severity":"error","app":"pumpd","procid":"12","text":"dry","fields":{"tank":"4"}}`},
		{"pattern that does not fit", pattern, `WARN odd`, `{"severity":"warning","text":"WARN odd"} unparsed`},
		{"pattern with the file", placedPattern, `a b`, `{"text":"b","fields":{"word":"a","file@32473":{"path":"/srv/a.log"}}}`},
		{"syslog", form(decode.Syslog), `<11>1 2026-11-25T09:00:00Z reef-02 pumpd 7 - - dry`, `{"time":"2026-11-25T09:00:00Z","severity":"error","host":"reef-02","app":"pumpd","procid":"7","text":"dry"}`},
		{"syslog without a priority", form(decode.Syslog), `Nov 25 09:00:00 reef-02 pumpd[7]: WARN dry`, `{"time":"2026-11-25T09:00:00Z","severity":"warning","host":"reef-02","app":"pumpd","procid":"7","text":"WARN dry"}`},
		{"latin", Settings{Latin1: true}, "pH \xb1 0.1 \xe9", `{"text":"pH ± 0.1 é"}`},
	} {
		expect(t, c.name, one(c.s, c.line), c.want)
	}
}

// Whoever asks for errors wants the crash of a program, too, though its trace names no level.
func TestATraceThatNamesNoLevelIsAnError(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"Traceback (most recent call last):\n  File \"/srv/feed.py\", line 3, in <module>\nKeyError: 'krill'", "error"},
		{"panic: no krill\n\ngoroutine 1 [running]:\nmain.main()", "error"},
		{"2026/11/25 10:15:00 http: panic serving 127.0.0.1:4000: empty\ngoroutine 18 [running]:", "error"},
		{"Exception in thread \"main\" java.lang.IllegalStateException: no krill\n\tat Feed.open(Feed.java:4)", "error"},
		{"java.lang.IllegalStateException: no krill\n\tat Feed.open(Feed.java:4)", "error"},
		{"TypeError: no such ticket\n    at sell (/srv/till.js:4:15)", "error"},
		{"/srv/till.js:4\nsell();\n^\n\nTypeError: x", "error"},
		{"Unhandled exception. System.IO.IOException: x\n   at Feed.Main() in /src/feed.cs:line 9", "error"},
		{"feed.rb:3:in `feed': no krill (RuntimeError)\n\tfrom feed.rb:7:in `<main>'", "error"},
		{"DEBUG tried again\n  at once", "debug"},
		{"KeyError: by itself", "notice"},
		{"one\n  two", "notice"},
		{"INFO caught\n  java.lang.IllegalStateException: no krill", "info"},
	} {
		m := NewMaker("", &Settings{Default: record.MakePriority(1, record.Notice), Join: Join{Indented: true}})
		var out Out
		for _, line := range strings.Split(c.text, "\n") {
			m.Add(&out, &Line{Text: []byte(line), Received: now})
		}
		m.Flush(&out)
		expect(t, c.text, len(out.Batch.Records), 1)
		expect(t, c.text, out.Batch.Records[0].Severity().String(), c.want)
	}
}

func TestStreamsHaveASeverityUnlessTheTextNamesOne(t *testing.T) {
	s := Settings{Default: record.MakePriority(16, record.Notice), Streams: true, Stdout: record.Info, Stderr: record.Error}
	m := NewMaker("", &s)
	var out Out
	for _, l := range []Line{{Text: []byte("up"), Stream: record.Stdout}, {Text: []byte("down"), Stream: record.Stderr}, {Text: []byte("DEBUG hm"), Stream: record.Stderr}} {
		m.Add(&out, &l)
	}
	var got []string
	for _, r := range out.Batch.Records {
		got = append(got, r.Priority.String()+" "+r.Stream.String())
	}
	expect(t, "priorities", got, []string{"local0.info stdout", "local0.error stderr", "local0.debug stderr"})
}

func TestPlainAndJSONLinesCostNoMemory(t *testing.T) {
	for _, c := range []struct{ form, line string }{{"", "2026-11-25 10:15:00,123 ERROR tank 4 is dry"}, {"json", `{"time":"2026-11-25T09:00:00Z","level":"warn","msg":"low","tank":4}`}, {"keyvalue", "level=warn msg=low took=12ms"}} {
		var steps []decode.Step
		if c.form != "" {
			steps = []decode.Step{{Form: decode.Form(c.form)}}
		}
		m := NewMaker("", &Settings{Decode: steps, Fields: NewFields("file@32473", record.Label{Name: "path", Value: "/a"})})
		var out Out
		line := Line{Text: []byte(c.line), Received: now}
		m.Add(&out, &line)
		if n := testing.AllocsPerRun(200, func() { out.Reset(); m.Add(&out, &line) }); n > 0 {
			t.Errorf("%q: %v allocations", c.form, n)
		}
	}
}

func FuzzMaker(f *testing.F) {
	for i, line := range []string{`{"time":"2026-11-25T09:00:00Z","level":"warn","msg":"low"}`, `level=warn msg="a\"b" x`, "2026-11-25 10:15:00,1 ERROR x", "Traceback (most recent call last):\n  x\nE: y", "<11>1 - - - - - - x", `[25/Nov/2026:10:15:00 +0000]`} {
		f.Add(line, uint8(i))
	}
	f.Fuzz(func(t *testing.T, text string, how uint8) {
		s := Settings{
			Decode:  [][]decode.Step{nil, {{Form: decode.JSON}, {Form: decode.Access}}, {{Form: decode.KeyValue}}, {{Form: decode.Pattern, Pattern: regexp.MustCompile(`^(?P<time>\S+) (?P<a>\w+)`)}}, {{Form: decode.Syslog}}}[how%5],
			Join:    Join{Indented: how&8 > 0},
			Largest: 1000, Latin1: how&16 > 0, Default: defaults,
			Fields: NewFields("file@32473", record.Label{Name: "path", Value: `/a "b"`}),
		}
		m := NewMaker("", &s)
		var out Out
		for _, l := range strings.Split(text, "\n") {
			m.Add(&out, &Line{Text: []byte(l), Received: now})
		}
		m.Flush(&out)
		for i := range out.Batch.Records {
			r := &out.Batch.Records[i]
			if len(r.Text) > 1003 || r.Time.IsZero() || r.Data != nil && !new(record.DataChecker).Valid(r.Data) {
				t.Fatalf("%q became %q with data %q", text, r.Text, r.Data)
			}
			if !json.Valid(r.AppendJSON(nil)) {
				t.Fatalf("%q is no JSON", r.AppendJSON(nil))
			}
		}
	})
}
