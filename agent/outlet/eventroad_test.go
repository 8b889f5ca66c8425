package outlet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// madeWriter stands in for the log of events.
type madeWriter struct {
	written []string
	failAt  int // the event that is not written, 0 for none
	opened  int
}

func (w *madeWriter) write(s record.Severity, id uint32, text string) error {
	if w.failAt > 0 && len(w.written)+1 == w.failAt {
		return errors.New("the log is full")
	}
	w.written = append(w.written, fmt.Sprintf("%s %d %s", s, id, strings.SplitN(text, "\n", 2)[0]))
	return nil
}

func (w *madeWriter) close() { w.opened-- }

// What is written of a batch that breaks off does not go again with the rest of it.
func TestEventsAreWrittenOnce(t *testing.T) {
	w := &madeWriter{failAt: 3}
	e := &eventRoad{to: "the log", open: func() (eventWriter, error) { w.opened++; return w, nil }}
	var want []string
	deliver := func() error {
		e.reset()
		for n := uint64(1); n <= 5; n++ {
			e.add(n, &record.Record{Priority: record.MakePriority(1, record.Severity(n)), Text: fmt.Appendf(nil, "pump %d", n), MsgID: []byte([]string{"", "7", "0", "1001", "x", "1000"}[n])})
		}
		last, err := e.pack(spool.Batch{Numbers: spool.Numbers{First: 1, Last: 5}, Records: 5}, false)(context.Background())
		if err == nil && last != 5 {
			t.Errorf("up to %d", last)
		}
		return err
	}
	for n, id := range []int{7, 1, 1, 1, 1000} {
		want = append(want, fmt.Sprintf("%s %d pump %d", record.Severity(n+1), id, n+1))
	}
	var later *client.RetryLater
	if err := deliver(); !errors.As(err, &later) || w.opened != 0 {
		t.Fatalf("%v, %d open", err, w.opened)
	}
	w.failAt = 0
	if err := deliver(); err != nil || !slices.Equal(w.written, want) {
		t.Errorf("%v: %q, not %q", err, w.written, want)
	}
}

func TestWhatAnEventSays(t *testing.T) {
	r := &record.Record{Text: []byte("the pump\x00 is dry"), Priority: record.MakePriority(16, record.Error), Host: []byte("reef-02"), App: []byte("pumpd")}
	r.SetData([]byte(`{"label@32473":{"role":"pumps"}}`))
	want := "the pump\ufffd is dry\n\ntime: 1970-01-01T00:00:00+00:00\nseverity: error\nfacility: local0\nhost: reef-02\napp: pumpd\nfields: {\"label@32473\":{\"role\":\"pumps\"}}\n"
	if got := eventText(r); got != want {
		t.Errorf("%q, not %q", got, want)
	}
	for most, want := range map[int]string{0: "…", 1: "ä…", 2: "ä…", 3: "ä😀…", 4: "ä😀x"} {
		if got := cutUnits([]byte("ä😀x"), most); got != want {
			t.Errorf("%d units: %q, not %q", most, got, want)
		}
	}
}
