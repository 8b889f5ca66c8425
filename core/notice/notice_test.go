package notice

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/record"
)

func some(severity record.Severity, host, text string, at int64) *record.Record {
	return &record.Record{Time: record.Stamp{Sec: 1_795_000_000 + at, Form: record.Zulu}, Priority: record.MakePriority(3, severity), Host: []byte(host), App: []byte("pumpd"), Text: []byte(text)}
}

func TestRecordsThatAreAlikeAreTold(t *testing.T) {
	var g Gatherer
	for i := range 5 {
		g.Add(some(record.Critical, "reef-02", fmt.Sprintf("pump P%d stalled after 0x%x ms", i, 100+i), int64(i)))
	}
	g.Add(some(record.Emergency, "reef-02", "the tank is empty", 9))
	g.Add(some(record.Critical, "kelp-01", "pump P0 stalled after 0x64 ms", 9))
	want := `2026-11-18 11:06:49 +00:00  emergency  reef-02 pumpd
    the tank is empty
2026-11-18 11:06:40 +00:00  critical  reef-02 pumpd
    pump P0 stalled after 0x64 ms
    and 4 more like it, the last at 11:06:44
2026-11-18 11:06:49 +00:00  critical  kelp-01 pumpd
    pump P0 stalled after 0x64 ms
`
	if got := g.Text(time.UTC); got != want {
		t.Errorf("got\n%s", got)
	}
	if got := g.Title("tide-gw"); got != "7 records on tide-gw, the worst is emergency" {
		t.Error(got)
	}
}

// Nothing that a sender writes is a line of the notice, a control character, or without bound.
func TestANoticeIsHarmlessAndBounded(t *testing.T) {
	var g Gatherer
	g.Add(some(record.Error, "a\r\nSubject: forged", "one\nforged line\x1b[2J"+strings.Repeat("é", 1000), 0))
	for i := range 1000 {
		g.Add(some(record.Error, fmt.Sprintf("host%c%c", 'a'+i%26, 'a'+i/26), "x", 0))
	}
	text := g.Text(time.UTC)
	if strings.ContainsAny(text, "\r\x1b") || strings.Contains(text, "\nforged") || len(text) > 10_000 {
		t.Errorf("%d bytes: %.500q", len(text), text)
	}
	if strings.ContainsAny(g.Title("a\r\nb"), "\r\n") {
		t.Error(g.Title("a\r\nb"))
	}
	if !strings.HasSuffix(text, "and 981 records of other kinds\n") || g.Records() != 1001 || len(g.Groups()) != mostGroups {
		t.Errorf("%d records, %d groups: %s", g.Records(), len(g.Groups()), text[len(text)-60:])
	}
}
