package format

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/record"
)

func TestWhatTemplatesHold(t *testing.T) {
	for _, c := range []struct{ format, held, fault string }{
		{"{time} {host} {app}[{procid}] {severity}: {text}", "time, host, app, procid, severity, text", ""},
		{"{text} {fields}", "text, fields", ""},
		{"{fields}{text}", "fields, text", ""},
		{"{peer}|{stream}|{agent}|{text}", "peer, stream, agent, text", ""},
		{"{app}{text}", "nothing that can be read back", "where {app} ends and {text} begins"},
		{"{severity} {app}{host} {text}", "severity, text", "where {app} ends and {host} begins"},
		{`{time as "hh:mm:ss"} {text}`, "text", "{time} without its date"},
		{`{time as "YYYY-MM-DD hh:mm:ss"} {text}`, "text", "{time} without a zone"},
		{`{time in UTC as "YYYY-MM-DD hh:mm:ss"} {text}`, "time, text", ""},
		{`{time as "YYYY-MM-DD hh:mm"} {text}`, "text", "without hh:mm:ss"},
		{`{time as unix} {severity upper} {host lower} {app upper}`, "time, severity, host", "{app} in other letters"},
		{`{fields as keyvalue}|{field tank.ph}`, "nothing that can be read back", "{fields as keyvalue}"},
		{"rfc3164", "time, facility, severity, host, app, procid, text", ""},
		{"json", "all of a record", ""},
	} {
		f, err := Parse(c.format)
		if err != nil {
			t.Errorf("%s: %v", c.format, err)
			continue
		}
		faults := strings.Join(f.Faults(), "; ")
		if f.Held() != c.held || !strings.Contains(faults, c.fault) || c.fault == "" && faults != "" {
			t.Errorf("%s holds %s: %s", c.format, f.Held(), faults)
		}
	}
}

// A line gives no facility and no severity that it does not hold.
func TestNothingIsInvented(t *testing.T) {
	for template, want := range map[string]string{
		"{text}":            `{"text":"dry"}`,
		"{severity} {text}": `{"severity":"error","text":"dry"}`,
		"{facility} {host}": `{"facility":"local3","host":"reef-02"}`,
		"{time} {text}":     `{"time":"2026-11-25T10:15:00Z","text":"dry"}`,
		"{peer}":            `{"peer":{"pid":7,"uid":0,"gid":0}}`,
	} {
		f, err := Parse(template)
		if err != nil {
			t.Fatal(err)
		}
		r := record.Record{Time: record.StampOf(time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC)), Priority: record.MakePriority(19, record.Error), Host: []byte("reef-02"), Text: []byte("dry"), Peer: &record.Peer{PID: 7}}
		var back record.Record
		if err := f.Read(&back, f.append(nil, &r)); err != nil {
			t.Errorf("%s: %v", template, err)
		}
		if got := string(f.AppendJSON(nil, &back)); got != want {
			t.Errorf("%s gives %s, want %s", template, got, want)
		}
	}
}

// The answer from a line is that from its record, or a refusal: whatever the record, the
// template and the condition.
func TestAnswersFromLinesAreThoseFromRecords(t *testing.T) {
	rnd := rand.New(rand.NewPCG(17, 3))
	pick := func(of ...string) string { return of[rnd.IntN(len(of))] }
	value := func(of ...string) []byte {
		if v := pick(of...); v != "" {
			return []byte(v)
		}
		return nil
	}
	refused, answered := 0, 0
	for range 20_000 {
		r := record.Record{
			Time: record.Stamp{Sec: 1_795_601_700 + int64(rnd.IntN(100)), Form: record.Zulu}, Priority: record.Priority(rnd.IntN(192)),
			Host: value("reef-02", "kelp-01", ""), Agent: value("reef-02", ""), App: value("pumpd", "ticketd", ""), ProcID: value("7", "412", ""), MsgID: value("ID47", ""),
			Text: value("dry", "dry again", `cart {"id":7}`, `{"id":7}`, "", "a | b: c [d] -", "-"), Stream: record.Stream(rnd.IntN(3)), Intake: pick("wire", "local"),
		}
		switch rnd.IntN(4) {
		case 0:
			r.SetData([]byte(`{"id":7,"tank":{"ph":8.1,"ok":true},"l":["a","b"]}`))
		case 1:
			r.SetData([]byte(`[tank ph="9" id="7"]`))
		}
		places := []string{"{time}", "{time as unix}", `{time as "hh:mm:ss"}`, "{facility}", "{severity}", "{severity upper}", "{host}", "{app width 8}", "{app}", "{procid}", "{msgid}", "{fields}", "{fields as keyvalue}", "{field tank.ph}", "{field l}", "{stream}", "{intake}", "{agent}", "{text}"}
		rnd.Shuffle(len(places), func(i, j int) { places[i], places[j] = places[j], places[i] })
		places = places[:1+rnd.IntN(5)]
		if i := slices.Index(places, "{text}"); i >= 0 { // it may hold any sign: behind it come fields alone
			places = append(slices.Delete(places, i, i+1), "{text}")
			if j := slices.Index(places, "{fields}"); j >= 0 && rnd.IntN(2) == 0 {
				places = append(slices.Delete(places, j, j+1), "{fields}")
			}
		}
		f, err := Parse(strings.Join(places, pick(" ", " | ", "")))
		if err != nil {
			t.Fatal(err)
		}
		c, err := condition.Parse(pick("severity at least warning", "facility is local3", "host is reef-02", "app is pumpd", `app missing`, "procid in (7, 9)", "msgid exists", `text has word dry`, `text contains "{"`, `"dry"`, "text is dry",
			"field tank.ph > 8.5", "field tank.ph exists", "field l is b", "field id is 7", "stream is stderr", "intake is wire", "agent is reef-02", "not host is kelp-01 and severity at most notice", "any"), nil)
		if err != nil {
			t.Fatal(err)
		}
		line := f.append(nil, &r)
		if f.Lacks(c.Asks()) != nil {
			refused++
			continue
		}
		var back record.Record
		if err := f.Read(&back, line); err != nil {
			if len(f.Faults()) == 0 {
				t.Fatalf("%s: %q cannot be read back", f, line)
			}
			continue
		}
		answered++
		if got, want := c.Match(&back), c.Match(&r); got != want {
			t.Fatalf("%s: %s of %q is %v, and of its record %v: %s", f, c, line, got, want, fmt.Sprint(string(r.AppendJSON(nil))))
		}
	}
	if refused < 1000 || answered < 1000 {
		t.Errorf("%d were refused, %d answered", refused, answered)
	}
}
