package block_test

import (
	"fmt"
	"slices"
	"testing"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
)

// valuesOf packs records, and returns what values they have.
func valuesOf(t *testing.T, records []record.Record) *block.Values {
	t.Helper()
	var b block.Builder
	for i := range records {
		b.Add(uint64(i+1), &records[i])
	}
	content, err := block.Open(b.Finish(nil))
	if err != nil {
		t.Fatal(err)
	}
	values, err := content.Values(len(records), true)
	if err != nil {
		t.Fatal(err)
	}
	return values
}

func below(f *block.Field, names ...string) *block.Field {
	for _, name := range names {
		at := slices.IndexFunc(f.Below, func(b *block.Field) bool { return string(b.Name) == name })
		if at < 0 {
			return nil
		}
		f = f.Below[at]
	}
	return f
}

func TestValuesAreCountedByGroup(t *testing.T) {
	of := func(host string, severity record.Severity, data, msgID string) record.Record {
		return record.Record{Host: []byte(host), Priority: record.Priority(severity), Data: []byte(data), MsgID: []byte(msgID), Intake: "wire"}
	}
	v := valuesOf(t, []record.Record{
		of("reef-02", record.Info, `{"state":"on","tank":{"ph":8.1}}`, "M1"),
		of("reef-02", record.Info, `{"state":"on","state":"off","tank":{"ph":"8.1","full":true}}`, "M1"),
		of("reef-02", record.Error, `{"state":"","tank":{"ph":null}}`, ""),
		of("kelp-01", record.Info, `{"tank":{"ph":8.10},"state":"on","list":[1]}`, "M2"),
		of("kelp-01", record.Info, `[tank@32473 ph="7" id="a\"b"]`, "M1"),
		{Host: []byte("kelp-01"), Priority: record.Priority(record.Info)},
	})
	for _, want := range []struct {
		path   []string
		told   block.Told
		counts []block.Count
	}{
		{[]string{"state"}, block.ByGroup, []block.Count{{"on", 0, 2}, {"on", 2, 1}}},
		{[]string{"tank"}, block.Untold, nil},
		{[]string{"tank", "ph"}, block.ByGroup, []block.Count{{"8.1", 0, 2}, {"8.10", 2, 1}}},
		{[]string{"tank", "full"}, block.ByGroup, []block.Count{{"true", 0, 1}}},
		{[]string{"list"}, block.Untold, nil},
		{[]string{"tank@32473", "id"}, block.ByGroup, []block.Count{{`a"b`, 2, 1}}},
	} {
		f := below(v.Fields, want.path...)
		if f == nil || f.Told != want.told || !slices.Equal(f.Counts, want.counts) {
			t.Errorf("%v: %+v, and not %+v", want.path, f, want)
		}
	}
	if got := fmt.Sprint(v.MsgID.Counts, v.Intake.Counts); got != "[{M1 0 2} {M1 2 1} {M2 2 1}] [{wire 0 2} {wire 1 1} {wire 2 2}]" {
		t.Error(got)
	}
}

// A field of many values, or of long ones, is not told; one of few that many say is counted over
// all; and a block with fields without number is told nothing of.
func TestValuesAreBounded(t *testing.T) {
	var many, wide []record.Record
	for i := range 4000 {
		many = append(many, record.Record{Host: fmt.Appendf(nil, "kiosk-%03d", i%400), Data: fmt.Appendf(nil, `{"seq":%d,"few":%d,"long":"%0300d"}`, i, i%20, 1)})
		wide = append(wide, record.Record{Data: fmt.Appendf(nil, `{"f%d":1}`, i)})
	}
	v := valuesOf(t, many[:399])
	if f := below(v.Fields, "few"); f.Told != block.ByGroup || len(f.Counts) != 399 {
		t.Errorf("%d, %d counts", f.Told, len(f.Counts))
	}
	for i := range many {
		many[i].Data = fmt.Appendf(nil, `{"seq":%d,"few":%d,"long":"%0300d"}`, i, i/400*17%20+i%13, 1)
	}
	v = valuesOf(t, many)
	all := 0
	few := below(v.Fields, "few")
	for _, c := range few.Counts {
		all += c.Count
	}
	if few.Told != block.ByGroup || all != len(many) {
		t.Errorf("%d of %d are counted, %d", all, len(many), few.Told)
	}
	for i := range many {
		many[i].Host = fmt.Appendf(nil, "kiosk-%d", i%600)
	}
	v = valuesOf(t, many)
	few = below(v.Fields, "few")
	all = 0
	for _, c := range few.Counts {
		all += c.Count
	}
	if few.Told != block.OverAll || all != len(many) {
		t.Errorf("%d of %d are counted, %d", all, len(many), few.Told)
	}
	for _, name := range []string{"seq", "long"} {
		if f := below(v.Fields, name); f.Told != block.Untold || f.Counts != nil {
			t.Errorf("%s: %+v", name, f)
		}
	}
	if v := valuesOf(t, wide); v != nil {
		t.Error("4,000 fields are told of")
	}
}
