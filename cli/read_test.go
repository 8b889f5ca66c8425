package cli

import (
	"testing"

	"oakbarrel/core/record"
)

func TestATraceStandsOnItsOwnLines(t *testing.T) {
	var r record.Record
	if err := r.ParseJSON([]byte(`{"time":"2026-11-25T10:15:00Z","severity":"error","host":"kelp-01","app":"till","text":"no ticket\r\n\tat sell\u001b[2J\n  by hand","fields":{"till":4}}`)); err != nil {
		t.Fatal(err)
	}
	const time, head = "2026-11-25T10:15:00Z", " error     kelp-01 till: no ticket"
	for several, want := range map[bool]string{
		true:  time + "       " + head + "\n        at sell\\u001b[2J\n      by hand\n    {\"till\":4}",
		false: time + head + `\r\n\tat sell\u001b[2J\n  by hand {"till":4}`,
	} {
		if got := string(recordText(&r, several)); got != want {
			t.Errorf("got\n%s\nwant\n%s", got, want)
		}
	}
}
