package condition

import (
	"strings"
	"testing"

	"oakbarrel/core/record"
)

// What an event calls otherwise than records do is known where events are asked for, and nowhere else.
func TestWhatEventsAreCalled(t *testing.T) {
	r := &record.Record{App: []byte("Service Control Manager"), Priority: record.MakePriority(3, record.Info)}
	r.SetData([]byte(`{"event@32473":{"channel":"System","id":7036,"data":{"id":"x"}}}`))
	for condition, want := range map[string]bool{
		"level is info": true, "level is information": true, "level at least warning": false, "LEVEL at most verbose": false, "not level is verbose": true,
		"id is 7036": true, "id in (1, 7036)": true, "id < 7000": false, "source starts with service": false, `source is "Service Control Manager"`: true,
		"channel is System and source exists": true, "channel matches /^Lantern/": false, "app exists and field event@32473.data.id is x": true,
	} {
		c, err := ParseOfEvents(condition)
		if err != nil {
			t.Fatalf("%s: %v", condition, err)
		}
		if c.Match(r) != want {
			t.Errorf("%s: not %v", condition, want)
		}
		if _, err := Parse(condition, nil); err == nil && !strings.HasPrefix(condition, "app") {
			t.Errorf("%s is known everywhere", condition)
		}
	}
	if _, err := ParseOfEvents("condition quiet"); err == nil || !strings.Contains(err.Error(), "write out what is meant") {
		t.Error(err)
	}
	if _, err := Parse("severity is information", nil); err == nil {
		t.Error("a word of Windows is known everywhere")
	}
}
