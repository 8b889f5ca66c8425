package api_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"oakbarrel/client"
)

// Records of many blocks of the same time come in order, each once, however many there
// are: what a search cannot hold it looks for again.
func TestBlocksOfTheSameTimeAreReadInOrder(t *testing.T) {
	oneAtATime(t)
	const blocks, each = 4, 15_000
	f := newFixture(t)
	for b := range blocks {
		records := some(each)
		for i := range records {
			records[i].Text = fmt.Appendf(nil, "%d %s", b*each+i, strings.Repeat("the tide turns ", 50))
		}
		head, payload := pack(1, records)
		if _, err := f.writer(f.agent(b)).SendBatch(context.Background(), f.agent(b), "centre", f.cask, head, payload); err != nil {
			t.Fatal(err)
		}
	}
	reader, _ := f.client("read")
	for _, page := range []client.Page{{Limit: 1e6}, {Limit: 1e6, OldestFirst: true}, {Limit: 50_000}} {
		var last string
		seen := map[int]bool{}
		err := reader.Read(context.Background(), client.Query{Cask: f.cask}, page, func(line []byte) error {
			var r struct{ Time, Text string }
			if err := json.Unmarshal(line, &r); err != nil {
				return err
			}
			if last != "" && r.Time != last && (r.Time > last) != page.OldestFirst {
				t.Fatalf("%s comes behind %s", r.Time, last)
			}
			var n int
			if fmt.Sscan(r.Text, &n); seen[n] {
				t.Fatalf("record %d comes twice", n)
			}
			last, seen[n] = r.Time, true
			return nil
		})
		if err != nil || len(seen) != min(page.Limit, blocks*each) {
			t.Errorf("%+v: %d records come, %v", page, len(seen), err)
		}
	}
}
