package api_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"oakbarrel/client"
	"oakbarrel/core/record"
)

// sales are records of two hosts, a second apart, with a field.
func sales(n int) (records []record.Record) {
	for i := range n {
		r := record.Record{Time: record.Stamp{Sec: 1_795_601_700 + int64(i), Form: record.Zulu}, Priority: record.DefaultPriority,
			Host: []byte([]string{"kelp-01", "reef-02"}[i%2]), App: fmt.Appendf(nil, "app%d", i%3), Text: fmt.Appendf(nil, "sale %d", i)}
		if i%4 == 0 {
			r.SetData(fmt.Appendf(nil, `[sale@32473 kind="k%d"]`, i%8))
		}
		records = append(records, r)
	}
	return records
}

func TestCountsByValues(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	head, payload := pack(1, sales(40))
	if _, err := f.writer(f.agent(600)).SendBatch(ctx, f.agent(600), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		where, by, field string
		top              int
		want             string
	}{
		{"", "host", "", 20, "40 [{kelp-01 20} {reef-02 20}] 0"},
		{"host is kelp-01", "app", "", 20, "20 [{app0 7} {app2 7} {app1 6}] 0"},
		{"", "app", "", 1, "40 [{app0 14}] 26"},
		{"", "field", "sale@32473.kind", 20, "40 [{(missing) 30} {k0 5} {k4 5}] 0"},
		{"", "facility", "", 20, "40 [{user 40}] 0"},
		{"app is nobody", "host", "", 20, "0 [] 0"},
	} {
		got, err := f.read.Count(ctx, client.Query{Cask: f.cask, Where: c.where}, c.by, c.field, c.top)
		if s := fmt.Sprint(got.Total, got.By, got.Others); err != nil || s != c.want {
			t.Errorf("%s by %s %s: %s, want %s: %v", c.where, c.by, c.field, s, c.want, err)
		}
	}
	if _, err := f.read.Count(ctx, client.Query{Cask: f.cask}, "field", "a..b", 20); err == nil || !strings.Contains(err.Error(), "field:") {
		t.Errorf("a path that cannot be read: %v", err)
	}
}

func TestTheNeighboursOfARecord(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	all := sales(40)
	for first := 0; first < 40; first += 7 { // in blocks that end anywhere
		head, payload := pack(uint64(first)+1, all[first:min(first+7, 40)])
		if _, err := f.writer(f.agent(601)).SendBatch(ctx, f.agent(601), "centre", f.cask, head, payload); err != nil {
			t.Fatal(err)
		}
	}
	texts := func(side []client.Placed) string {
		var all []string
		for _, p := range side {
			var r record.Record
			if err := r.ParseJSON(p.Record); err != nil {
				t.Fatal(err)
			}
			all = append(all, strings.TrimPrefix(string(r.Text), "sale "))
		}
		return strings.Join(all, " ")
	}
	places := 0
	err := f.read.ReadPlaced(ctx, client.Query{Cask: f.cask, Where: "text has word 20"}, client.Page{}, func(p client.Placed) error {
		places++
		for host, want := range map[string]string{"kelp-01": "14 16 18|22 24 26", "": "17 18 19|21 22 23"} {
			n, err := f.read.Neighbours(ctx, f.cask, host, p.Place, 3)
			if got := texts(n.Before) + "|" + texts(n.After); err != nil || got != want {
				t.Errorf("on host %q: %s, want %s: %v", host, got, want, err)
			}
		}
		n, err := f.read.Neighbours(ctx, f.cask, `no "such" \ host`, p.Place, 3)
		if err != nil || len(n.Before)+len(n.After) > 0 {
			t.Errorf("%+v: %v", n, err)
		}
		return nil
	})
	if err != nil || places != 1 {
		t.Errorf("%d records: %v", places, err)
	}
}
