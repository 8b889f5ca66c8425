package decode

import (
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

var now = record.StampOf(time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC))

func expect(t testing.TB, what string, got, want any) {
	t.Helper()
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%s:\n got %v\nwant %v", what, got, want)
	}
}

func TestTimeIsFoundAtTheStart(t *testing.T) {
	athens, _ := time.LoadLocation("Europe/Athens")
	d := Decoder{Reading: &Reading{Zone: athens}}
	for line, want := range map[string]string{
		"2026-11-25T10:15:00.5Z text":                          "2026-11-25T10:15:00.5Z",
		"2026-11-25T10:15:00+01:00 text":                       "2026-11-25T10:15:00+01:00",
		"2026-11-25 10:15:00,123 text":                         "2026-11-25T10:15:00.123+02:00",
		"2026-06-25 10:15:00 text":                             "2026-06-25T10:15:00+03:00",
		"2026/11/25 10:15:00.000001 text":                      "2026-11-25T10:15:00.000001+02:00",
		"[2026-11-25 10:15:00 +0100] text":                     "2026-11-25T10:15:00+01:00",
		"2026-11-25 10:15:00Z text":                            "2026-11-25T10:15:00Z",
		"2026-11-25 10:15:00-0330 text":                        "2026-11-25T10:15:00-03:30",
		"Nov  5 10:15:00 reef-02 pumpd: text":                  "2026-11-05T10:15:00+02:00",
		"10.20.0.7 - - [25/Nov/2026:10:15:00 +0100] \"GET /\"": "2026-11-25T10:15:00+01:00",
		"[25/Nov/2026:10:15:00 +0100] text":                    "2026-11-25T10:15:00+01:00",
		"Nov 25, 2026 10:15:00 PM lantern.bay.Pump start":      "2026-11-25T22:15:00+02:00",
		"Nov 25, 2026 12:15:00 AM lantern.bay.Pump start":      "2026-11-25T00:15:00+02:00",
		"25.11.2026 10:15:00,5 text":                           "2026-11-25T10:15:00.5+02:00",
		"11/25/2026 1:15:00 PM text":                           "2026-11-25T13:15:00+02:00",
		"25 Nov 2026 10:15:00.250 text":                        "2026-11-25T10:15:00.25+02:00",
		"25-November-2026 10:15:00 UTC text":                   "2026-11-25T10:15:00Z",
		"Wed Nov 25 10:15:00 2026 text":                        "2026-11-25T10:15:00+02:00",
		"[Wed Nov 25 10:15:00.123456 2026] [core:error] text":  "2026-11-25T10:15:00.123456+02:00",
		"Wed, 25 Nov 2026 10:15:00 GMT text":                   "2026-11-25T10:15:00Z",
		"11-25 10:15:00.123  412  412 E pumpd: text":           "2026-11-25T10:15:00.123+02:00",
		"E1125 10:15:00.000001       7 pump.c:12] text":        "2026-11-25T10:15:00.000001+02:00",
		"12-31 23:15:00 text":                                  "2026-12-31T23:15:00+02:00",
		"02-29 10:15:00 text":                                  "",
		"31.04.2026 10:15:00 text":                             "",
		"2026-13-25 10:15:00 text":                             "",
		"2026-11-25 is a day like others":                      "",
		"2026-11-25 10:15:00x":                                 "",
		"march on, march on, and so on it goes":                "",
		"short":                                                "",
	} {
		got := ""
		if s, ok := d.FindStamp([]byte(line), now); ok {
			got = s.String()
		}
		expect(t, line, got, want)
	}
}

func TestTimesThatThePlanAdds(t *testing.T) {
	for _, c := range []struct{ layout, text, want string }{
		{"DD.MM.YY hh:mm", "25.11.26 10:15 text", "2026-11-25T10:15:00Z"},
		{"hh:mm:ss.fff", "10:15:00.042 text", "2026-11-25T10:15:00.042Z"},
		{"YYYYMMDDThhmmsszzz", "20261125T101500+0100 text", "2026-11-25T10:15:00+01:00"},
		{"DAY DD MON, hh:mm AM", "Wednesday 25 November, 1:15 pm text", "2026-11-25T13:15:00Z"},
		{"MON DD hh:mm:ss", "Jan 02 10:15:00 text", "2027-01-02T10:15:00Z"},
		{"MON DD hh:mm:ss", "January, 10:15:00", ""},
		{"hh:mm", "24:15", ""},
	} {
		l, err := ParseLayout(c.layout)
		if err != nil {
			t.Errorf("%s: %v", c.layout, err)
			continue
		}
		d := Decoder{Reading: &Reading{Zone: time.UTC, Times: []Layout{l}}}
		got := ""
		if s, ok := d.FindStamp([]byte(c.text), now); ok {
			got = s.String()
		}
		expect(t, c.layout+" of "+c.text, got, c.want)
	}
	for layout, why := range map[string]string{"DD.MM.YYYY": "no hh and mm", "DD hh:mm": "month and day", "MM MON DD hh:mm": "two forms", "hh:mm hh": "twice"} {
		if _, err := ParseLayout(layout); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", layout, err)
		}
	}
}

// read decodes a text, and returns the record as JSON without what all have.
func read(text string, steps ...Step) string {
	r := record.Record{Received: now, Time: now, Priority: record.DefaultPriority, Text: []byte(text)}
	d := Decoder{Reading: &Reading{Zone: time.UTC, Levels: map[string]record.Severity{"chatty": record.Debug}}}
	fits := d.Decode(&r, steps)
	s := string(r.AppendJSON(nil))
	for _, same := range []string{`"received":"2026-11-25T10:15:00Z",`, `"time":"2026-11-25T10:15:00Z",`, `"facility":"user",`, `"severity":"notice",`} {
		s = strings.Replace(s, same, "", 1)
	}
	if !fits {
		s += " unread"
	}
	return s
}

const combined = `10.20.0.7 - noor [25/Nov/2026:09:15:00 +0000] "GET /tanks?id=4 HTTP/1.1" 200 512 "https://bay.example/" "Mozilla/5.0 \"x\""`

func TestAccessLines(t *testing.T) {
	access := Step{Form: Access}
	for name, c := range map[string]struct{ line, fields string }{
		"combined":          {combined, `"client":"10.20.0.7","user":"noor","method":"GET","path":"/tanks?id=4","protocol":"HTTP/1.1","status":200,"bytes":512,"referrer":"https://bay.example/","agent":"Mozilla/5.0 \\\"x\\\""`},
		"common":            {`10.20.0.7 - - [25/Nov/2026:09:15:00 +0000] "POST /a HTTP/2.0" 304 -`, `"client":"10.20.0.7","method":"POST","path":"/a","protocol":"HTTP/2.0","status":304`},
		"with seconds":      {`::1 - - [25/Nov/2026:09:15:00 +0000] "GET / HTTP/1.1" 200 5 "-" "curl/8" 0.005`, `"client":"::1","method":"GET","path":"/","protocol":"HTTP/1.1","status":200,"bytes":5,"agent":"curl/8","seconds":0.005`},
		"with microseconds": {`::1 - - [25/Nov/2026:09:15:00 +0000] "GET / HTTP/1.1" 200 5 "-" "-" 1500`, `"client":"::1","method":"GET","path":"/","protocol":"HTTP/1.1","status":200,"bytes":5,"seconds":0.0015`},
		"with a named time": {`::1 - - [25/Nov/2026:09:15:00 +0000] "GET / HTTP/1.1" 200 5 "-" "-" "10.0.0.1" rt=0.250 uct="0.000"`, `"client":"::1","method":"GET","path":"/","protocol":"HTTP/1.1","status":200,"bytes":5,"seconds":0.250`},
		"with the site":     {`bay.example:443 10.20.0.7 - - [25/Nov/2026:09:15:00 +0000] "GET / HTTP/1.1" 404 5 "-" "-"`, `"site":"bay.example:443","client":"10.20.0.7","method":"GET","path":"/","protocol":"HTTP/1.1","status":404,"bytes":5`},
		"not a request":     {`10.20.0.7 - - [25/Nov/2026:09:15:00 +0000] "\x16\x03\x01" 400 157 "-" "-"`, `"client":"10.20.0.7","path":"\\x16\\x03\\x01","status":400,"bytes":157`},
		"no request":        {`10.20.0.7 - - [25/Nov/2026:09:15:00 +0000] "-" 408 0 "-" "-"`, `"client":"10.20.0.7","status":408,"bytes":0`},
		"a balancer":        {`10.20.0.7:33317 [25/Nov/2026:09:15:00.655] web-in~ tanks/srv1 10/0/30/69/109 503 2750 - - ---- 1/1/1/1/0 0/0 "GET /tanks HTTP/1.1"`, `"client":"10.20.0.7","frontend":"web-in","backend":"tanks/srv1","method":"GET","path":"/tanks","protocol":"HTTP/1.1","status":503,"bytes":2750,"seconds":0.109`},
	} {
		got := read(c.line, access)
		want := `,"fields":{` + c.fields + `}}`
		if !strings.HasSuffix(got, want) || !strings.HasPrefix(got, `{"time":"2026-11-25T09:15:00`) {
			t.Errorf("%s:\n got %s\nwant %s", name, got, want)
		}
	}
	for _, line := range []string{"", "x", strings.Repeat("[", 40), combined[:40], combined[:76], strings.Replace(combined, "25/Nov", "25/Nev", 1), strings.Replace(combined, " 200 ", " 2000 ", 1), strings.Replace(combined, " 200 ", " ok ", 1),
		strings.Replace(combined, "512", "05", 1), strings.Replace(combined, "10.20.0.7 -", "10.20.0.7", 1), `10.20.0.7:1 [25/Nov/2026:09:15:00.655] a b/c 1 200 1 "x"`, `10.20.0.7:x [25/Nov/2026:09:15:00.655] a b/c 1/1 200 1 "x"`} {
		if got := read(line, access); !strings.HasSuffix(got, " unread") || strings.Contains(got, "fields") {
			t.Errorf("%q is read: %s", line, got)
		}
	}
}

func TestFormsAreTriedInTurn(t *testing.T) {
	pattern := func(s string) Step { return Step{Form: Pattern, Pattern: regexp.MustCompile(s)} }
	from := func(s Step, path string) Step {
		s.From, _ = condition.ParsePath(path)
		return s
	}
	csv := Step{Form: CSV, Separator: ',', Columns: []string{"time", "severity", "", "tank", "text"}}
	for _, c := range []struct {
		name  string
		text  string
		steps []Step
		want  string
	}{
		{"the first that fits", `level=error msg=dry`, []Step{{Form: JSON}, {Form: Access}, {Form: KeyValue}}, `{"severity":"error","text":"dry"}`},
		{"none", `just text`, []Step{{Form: JSON}, {Form: KeyValue}}, `{"text":"just text"} unread`},
		{"json behind words", `cart saved {"id":7}`, []Step{{Form: JSON}}, `{"text":"cart saved","fields":{"id":7}}`},
		{"json behind a head", `2026-11-25T09:00:00Z WARN cart {"id":7,"msg":"x"}`, []Step{{Form: JSON}}, `{"severity":"warning","text":"2026-11-25T09:00:00Z WARN cart","fields":{"id":7,"msg":"x"}}`},
		{"json behind braces", `for {a} and {b}: {"id":7}`, []Step{{Form: JSON}}, `{"text":"for {a} and {b}:","fields":{"id":7}}`},
		{"no json", `set{1,2}`, []Step{{Form: JSON}}, `{"text":"set{1,2}"} unread`},
		{"broken json", `{"id":7`, []Step{{Form: JSON}}, `{"text":"{\"id\":7"} unread`},
		{"trace is kept", `{"level":"TRACE","msg":"x"}`, []Step{{Form: JSON}}, `{"severity":"debug","text":"x","fields":{"level":"TRACE"}}`},
		{"fatal is kept", `severity=fatal msg=x`, []Step{{Form: KeyValue}}, `{"severity":"critical","text":"x","fields":{"level":"fatal"}}`},
		{"a code of one letter", `{"lvl":"W","msg":"x","level":3}`, []Step{{Form: JSON, Severity: []string{"lvl"}}}, `{"severity":"warning","text":"x","fields":{"level":"W"}}`},
		{"an own word", `{"level":"CHATTY","msg":"x"}`, []Step{{Form: JSON}}, `{"severity":"debug","text":"x","fields":{"level":"CHATTY"}}`},
		{"a number in tens of thousands", `{"level":40000,"msg":"x"}`, []Step{{Form: JSON}}, `{"severity":"error","text":"x","fields":{"level":40000}}`},
		{"csv", `2026-11-25T09:00:00Z,SEVERE,left out,4,"dry, ""again"""`, []Step{csv}, `{"time":"2026-11-25T09:00:00Z","severity":"error","text":"dry, \"again\"","fields":{"level":"SEVERE","tank":"4"}}`},
		{"csv of other columns", `a,b`, []Step{csv}, `{"text":"a,b"} unread`},
		{"syslog in a text", `<11>1 2026-11-25T09:00:00Z reef-02 pumpd 7 - [a b="c"] dry`, []Step{{Form: Syslog}}, `{"time":"2026-11-25T09:00:00Z","severity":"error","host":"reef-02","app":"pumpd","procid":"7","text":"dry","fields":{"a":{"b":"c"}}}`},
		{"not syslog", `dry`, []Step{{Form: Syslog}}, `{"text":"dry"} unread`},
		{"a field", `id=4 request="GET /tanks"`, []Step{{Form: KeyValue}}, `{"text":"id=4 request=\"GET /tanks\"","fields":{"id":"4","request":"GET /tanks"}}`},
		{"a field that is missing", `x`, []Step{from(pattern(`^(?P<a>\w+)`), "request")}, `{"text":"x"} unread`},
	} {
		expect(t, c.name, read(c.text, c.steps...), c.want)
	}
	r := record.Record{Received: now, Time: now, Text: []byte("x")}
	r.SetData([]byte(`[web@32473 request="GET /tanks" status="200"]`))
	var d Decoder
	if !d.Decode(&r, []Step{from(pattern(`^(?P<method>\w+) (?P<path>\S+)`), "web@32473.request")}) {
		t.Error("a field is not read")
	}
	expect(t, "fields of both", string(r.Fields().Root().AppendJSON(nil)), `{"method":"GET","path":"/tanks","web@32473":{"request":"GET /tanks","status":"200"}}`)
	r.SetData([]byte(`{"method":"old","x":1}`))
	r.Text = []byte("method=new")
	d.Decode(&r, []Step{{Form: KeyValue}})
	expect(t, "a field of the same name is replaced", string(r.Fields().Root().AppendJSON(nil)), `{"method":"new","x":1}`)
	r.SetData([]byte(`{"label@32473":{"team":"pumps"}}`))
	r.Text = []byte(`{"label@32473":"forged","a":1}`)
	d.Decode(&r, []Step{{Form: JSON}})
	expect(t, "what is ours is not replaced", string(r.Fields().Root().AppendJSON(nil)), `{"a":1,"label@32473":{"team":"pumps"}}`)
}

func TestSeveritiesOfOtherWorlds(t *testing.T) {
	for line, want := range map[string]string{
		"10:15AM INF started":                         "info",
		"[10:15:00 WRN] low":                          "warning",
		"2026-11-25T10:15:00Z DBG tank":               "debug",
		"2026-11-25T10:15:00Z FTL tank":               "critical",
		"[E] dry":                                     "error",
		"[W 261125 10:15:00 web:2271] 404 GET":        "warning",
		"I1125 10:15:00.000001       7 pump.c:12] up": "info",
		"SEVERE: dry":                                 "error",
		"FINEST: tick":                                "debug",
		"I am a sentence":                             "",
		"E 11 is a number":                            "",
	} {
		got := ""
		if s, ok := FindSeverity([]byte(line)); ok {
			got = s.String()
		}
		expect(t, line, got, want)
	}
	r := record.Record{Received: now, Priority: record.DefaultPriority, Text: []byte("Nov 25, 2026 9:15:00 AM lantern.bay.Pump start\nSEVERE: the pump is dry")}
	d := Decoder{Reading: &Reading{Zone: time.UTC}}
	d.Find(&r, true)
	expect(t, "a head in two lines", r.Severity().String()+" "+r.Time.String(), "error 2026-11-25T09:15:00Z")
}

func TestDecodingCostsNoMemory(t *testing.T) {
	for form, text := range map[Form]string{JSON: `{"time":"2026-11-25T09:00:00Z","level":"warn","msg":"low","tank":4}`, KeyValue: "level=warn msg=low took=12ms", Access: combined, CSV: "2026-11-25T09:00:00Z,warn,x,4,low", Syslog: "<11>1 2026-11-25T09:00:00Z reef-02 pumpd 7 - - dry"} {
		steps := []Step{{Form: form, Separator: ',', Columns: []string{"time", "severity", "", "tank", "text"}}}
		var d Decoder
		var r record.Record
		once := func() {
			d.Memory = d.Memory[:0]
			r.Reset()
			r.Received, r.Time, r.Text = now, now, []byte(text)[:len(text):len(text)]
			if !d.Decode(&r, steps) {
				t.Fatal(form, "does not fit")
			}
		}
		line := []byte(text)
		once()
		if n := testing.AllocsPerRun(200, func() {
			d.Memory = d.Memory[:0]
			r.Reset()
			r.Received, r.Time, r.Text = now, now, line
			d.Decode(&r, steps)
		}); n > 0 {
			t.Errorf("%s: %v allocations", form, n)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, text := range []string{combined, `a {"b":[1]}`, "level=warn x", `a,"b"",c"`, "<11>Nov 25 10:15:00 a b: c", `10.20.0.7:33317 [25/Nov/2026:09:15:00.655] a b/c 1/109 503 2750 "GET / HTTP/1.1"`, "Nov 25, 2026 9:15:00 AM a.b c\nSEVERE: x", "E1125 10:15:00.1 x"} {
		f.Add([]byte(text))
	}
	path, _ := condition.ParsePath("a")
	steps := [][]Step{{{Form: JSON}, {Form: KeyValue}}, {{Form: Access}, {Form: CSV, Separator: ',', Columns: []string{"a", "severity", "time"}}}, {{Form: Syslog}}, {{Form: KeyValue}, {Form: JSON, From: path}}, {{Form: Pattern, Pattern: regexp.MustCompile(`(?P<a>\w+) (?P<text>.*)`)}}}
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, s := range steps {
			r := record.Record{Received: now, Time: now, Text: text}
			d := Decoder{Reading: &Reading{Zone: time.UTC}}
			d.Decode(&r, s)
			d.Decode(&r, s) // also what was decoded before
			var back record.Record
			if err := back.ParseJSON(r.AppendJSON(nil)); err != nil {
				t.Fatalf("%q gives %s: %v", text, r.AppendJSON(nil), err)
			}
			r.Time = record.Stamp{}
			d.Find(&r, true)
		}
	})
}
