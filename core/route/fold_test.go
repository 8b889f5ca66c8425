package route

import (
	"fmt"
	"testing"
	"time"

	"oakbarrel/core/record"
)

func TestAFoldTellsOfRepeatsOnce(t *testing.T) {
	table := NewTable([]Rule{
		{When: when(t, "app is both"), Send: []int{0}},
		{When: when(t, `"stall"`), Fold: &Fold{Window: 10 * time.Second}, Change: Change{Labels: []record.Label{{Name: "team", Value: "pumps"}}}, Send: []int{1}, Done: true},
	}, Otherwise{Send: []int{0}}, 2)
	batch := func(second int64, texts ...string) *record.Batch {
		b := &record.Batch{}
		for _, text := range texts {
			r := recordOf("local3.error", "pumpd")
			if text == "both stall" {
				r.App = []byte("both")
			}
			r.Received, r.Time, r.Text = record.Stamp{Sec: second, Form: record.Zulu}, record.Stamp{Sec: second, Form: record.Zulu}, []byte(text)
			b.Records = append(b.Records, r)
		}
		return b
	}
	var m Routing
	for range 2 { // taken back, it counts for nothing
		b := batch(100, "stall", "stall", "other", "both stall", "both stall")
		if got := table.Route(b, &m); got != (Counts{In: 5, Routed: 4, Dropped: 1, Folded: 1}) {
			t.Fatalf("%+v", got)
		}
		m.Undo(b)
	}
	table.Route(batch(100, "stall", "stall", "both stall", "both stall"), &m)
	table.Route(batch(105, "stall", "stall"), &m)
	var told record.Batch
	var where Routing
	if n := table.Folded(record.Stamp{Sec: 109, Form: record.Zulu}, false, &told, &where); n != 0 {
		t.Errorf("%d are told of before their time", n)
	}
	n := table.Folded(record.Stamp{Sec: 110, Form: record.Zulu}, false, &told, &where)
	got := map[string]string{}
	for i := range n {
		got[string(told.Records[i].Text)] = fmt.Sprint(where.Has(i, 0), where.Has(i, 1), string(told.Records[i].AppendJSON(nil)))
	}
	for text, want := range map[string]string{
		"stall (said 4 times in 5s)":      `false true{"time":"1970-01-01T00:01:45Z","received":"1970-01-01T00:01:45Z","facility":"local3","severity":"error","app":"pumpd","text":"stall (said 4 times in 5s)","fields":{"label@32473":{"team":"pumps"},"fold@32473":{"times":"4"}}}`,
		"both stall (said 2 times in 1s)": `false true{"time":"1970-01-01T00:01:40Z","received":"1970-01-01T00:01:40Z","facility":"local3","severity":"error","app":"both","text":"both stall (said 2 times in 1s)","fields":{"label@32473":{"team":"pumps"},"fold@32473":{"times":"2"}}}`,
	} {
		if got[text] != want {
			t.Errorf("%s:\n got %s\nwant %s", text, got[text], want)
		}
	}
	if n := table.Folded(record.Stamp{Sec: 200, Form: record.Zulu}, true, &told, &where); n != 0 {
		t.Errorf("%d are told of twice", n)
	}
	if got := table.Route(batch(201, "stall"), &m); got.Routed != 1 {
		t.Errorf("a new run: %+v", got)
	}
}
