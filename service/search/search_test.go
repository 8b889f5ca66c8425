package search

import (
	"errors"
	"fmt"
	"testing"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
)

// A byte that is another one in a block, under a checksum that fits it again,
// is an error or another record, however much of the block a query reads.
func TestDamageWithinABlockIsTold(t *testing.T) {
	const records = 3000
	var b block.Builder
	for i := range records {
		b.Add(uint64(i+1), &record.Record{Time: record.Stamp{Sec: int64(i)}, Host: []byte("reef-02"), Text: fmt.Appendf(nil, "pump %d at %d rpm", i%12, 1400+i%97), Data: []byte(`{"id":7}`)})
	}
	d, _ := zstd.NewReader(nil)
	e, _ := zstd.NewWriter(nil)
	body, err := d.DecodeAll(b.Finish(nil), nil)
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	for i := 0; i < len(body); i += 101 {
		damaged := append([]byte(nil), body...)
		damaged[i] ^= 0x81
		for _, q := range []Query{{Limit: 10}, {Limit: 10, OldestFirst: true}, {Limit: 1e6}, {Limit: 10, Since: 1e6, Until: 2e6}} {
			content, err := block.Open(e.EncodeAll(damaged, nil))
			var hits []Hit
			if err == nil {
				hits, err = q.hits(head{LastNumber: records + 1000}, content)
			}
			switch {
			case errors.Is(err, block.ErrDamaged):
				told++
			case err != nil:
				t.Fatalf("byte %d: %v", i, err)
			case len(hits) < min(q.Limit, 1) && q.Since == 0:
				t.Errorf("byte %d: nothing is found, and no damage", i)
			}
		}
	}
	if told == 0 {
		t.Error("no damage is told")
	}
}
