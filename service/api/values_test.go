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

// Which agent took a record in is known of each, whatever host its sender claims.
func TestARecordIsOfAnAgent(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	for i, name := range []string{"quay-3", "tide-gw"} {
		w, id := f.writer(f.agent(602+i)), f.agent(602+i)
		if _, err := w.SendStatus(ctx, id, client.AgentStatus{Host: name, Status: client.Status{}}); err != nil {
			t.Fatal(err)
		}
		head, payload := pack(1, sales(10*(i+1)))
		if _, err := w.SendBatch(ctx, id, "centre", f.cask, head, payload); err != nil {
			t.Fatal(err)
		}
	}
	head, payload := pack(1, sales(3)) // of files: no agent took them in
	if _, err := f.writer(f.agent(604)).SendBatch(ctx, f.agent(604), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	for where, want := range map[string]int64{
		"agent is QUAY-3": 10, `agent in ("quay-3", tide-gw)`: 30, "agent is quay-3 and host is reef-02": 5, "agent missing": 3, "not agent is quay-3": 23,
		"agent starts with tide": 20, "agent is nobody": 0, "agent is nobody or text is \"sale 2\"": 3, "agent matches /^QU/": 10, `agent is tide-gw and text has word 15`: 1,
	} {
		counts, err := f.read.Count(ctx, client.Query{Cask: f.cask, Where: where}, "severity", "", 20)
		if err != nil || counts.Total != want {
			t.Errorf("%s: %d, want %d: %v", where, counts.Total, want, err)
		}
		read := int64(0)
		if err := f.read.Read(ctx, client.Query{Cask: f.cask, Where: where}, client.Page{}, func([]byte) error { read++; return nil }); err != nil || read != want {
			t.Errorf("%s: %d are read, want %d: %v", where, read, want, err)
		}
	}
	counts, err := f.read.Count(ctx, client.Query{Cask: f.cask}, "agent", "", 20)
	if s := fmt.Sprint(counts.By); err != nil || s != "[{tide-gw 20} {quay-3 10} {(missing) 3}]" {
		t.Errorf("by agent: %s, %v", s, err)
	}
	var told []string
	err = f.read.ReadPlaced(ctx, client.Query{Cask: f.cask, Where: "agent is quay-3 and text is \"sale 4\""}, client.Page{}, func(p client.Placed) error {
		n, err := f.read.Neighbours(ctx, client.NeighboursOf{Cask: f.cask, Agent: "quay-3", Place: p.Place, Each: 2})
		for _, side := range [][]client.Placed{n.Before, n.After} {
			for _, p := range side {
				var r record.Record
				if err := r.ParseJSON(p.Record); err != nil {
					return err
				}
				told = append(told, string(r.Agent)+"/"+string(r.Text))
			}
		}
		return err
	})
	if got := strings.Join(told, " "); err != nil || got != "quay-3/sale 2 quay-3/sale 3 quay-3/sale 5 quay-3/sale 6" {
		t.Errorf("its neighbours are %s: %v", got, err)
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
			n, err := f.read.Neighbours(ctx, client.NeighboursOf{Cask: f.cask, Host: host, Place: p.Place, Each: 3})
			if got := texts(n.Before) + "|" + texts(n.After); err != nil || got != want {
				t.Errorf("on host %q: %s, want %s: %v", host, got, want, err)
			}
		}
		n, err := f.read.Neighbours(ctx, client.NeighboursOf{Cask: f.cask, Host: `no "such" \ host`, Place: p.Place, Each: 3})
		if err != nil || len(n.Before)+len(n.After) > 0 {
			t.Errorf("%+v: %v", n, err)
		}
		return nil
	})
	if err != nil || places != 1 {
		t.Errorf("%d records: %v", places, err)
	}
}
