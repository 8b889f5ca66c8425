package block_test

import (
	"bytes"
	"fmt"
	"testing"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/shape"
)

// kindOf is a kind as a record by itself tells it.
type kindOf struct {
	host, app, shape string
	priority         record.Priority
}

// wantKinds compares the kinds of a block with what its records say one by one.
func wantKinds(t *testing.T, records []record.Record) {
	t.Helper()
	var b block.Builder
	want := map[kindOf]int{}
	for i := range records {
		r := &records[i]
		b.Add(uint64(i+1), r)
		want[kindOf{string(r.Host), string(r.App), string(shape.Append(nil, r.Text)), r.Priority}]++
	}
	content, err := block.Open(b.Finish(nil))
	if err != nil {
		t.Fatal(err)
	}
	kinds, err := content.Kinds(len(records), true)
	if err != nil {
		t.Fatal(err)
	}
	fewer, err := content.Kinds(len(records), false)
	if err != nil {
		t.Fatal(err)
	}
	bySeverity := map[kindOf]int{}
	for of, n := range want {
		of.priority = record.Priority(of.priority.Severity())
		bySeverity[of] += n
	}
	for _, k := range fewer {
		if of := (kindOf{string(k.Host), string(k.App), string(k.Shape), k.Priority}); bySeverity[of] != k.Count {
			t.Errorf("without facilities: %+v are %d, not %d", of, k.Count, bySeverity[of])
		}
	}
	if len(fewer) != len(bySeverity) {
		t.Errorf("without facilities there are %d kinds, not %d", len(fewer), len(bySeverity))
	}
	got := 0
	for _, k := range kinds {
		of := kindOf{string(k.Host), string(k.App), string(k.Shape), k.Priority}
		if want[of] != k.Count || k.Key != shape.Key(k.Shape) {
			t.Errorf("%+v are %d, not %d", of, k.Count, want[of])
		}
		got += k.Count
		if k.First.Sec > k.Last.Sec {
			t.Errorf("%+v begin at %v and end at %v", of, k.First, k.Last)
		}
	}
	if got != len(records) || len(kinds) != len(want) {
		t.Errorf("%d records are of %d kinds, not %d of %d", got, len(kinds), len(records), len(want))
	}
	if most, err := content.Kinds(len(want)-1, true); most != nil || err != nil {
		t.Errorf("where there are too many: %v, %v", most, err)
	}
}

func TestKindsAreThoseOfTheRecords(t *testing.T) {
	for name, text := range map[string]func(i int) string{
		"few shapes": func(i int) string { return fmt.Sprintf("pump P%02d at %d rpm, id %08x", i%12, 1400+i%97, i*7919) },
		"no shapes":  func(i int) string { return fmt.Sprint("only once ", i*i) },
		"all at once": func(i int) string {
			return []string{"fee7", "fe7", "feed", "aB3xY9kQ2", "3ms", "x86_64", `"a b"`, "", "1e5"}[i%9]
		},
	} {
		t.Run(name, func(t *testing.T) {
			var records []record.Record
			for i := range 3000 {
				r := record.Record{Time: record.Stamp{Sec: int64(1795600800 + i%700)}, Priority: record.Priority(i % 17), Text: []byte(text(i))}
				if i%3 > 0 {
					r.Host, r.App = fmt.Appendf(nil, "reef-%02d", i%3), []byte("pumpd")
				}
				if i%100 == 0 {
					r.Text = nil
				}
				records = append(records, r)
			}
			wantKinds(t, records)
		})
	}
}

// otherDigits returns a text with other digits, which has the shape of the text in a block.
func otherDigits(text []byte) []byte {
	return bytes.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return '0' + (r-'0'+7)%10
		}
		return r
	}, text)
}

// However texts are held in a block, their kinds are those that they have by themselves.
func FuzzKinds(f *testing.F) {
	f.Add([]byte("pump P07 at 1400 rpm"), []byte("pump P7 at 1 rpm"), []byte("fee7"))
	f.Add([]byte("aB3xY9kQ2"), []byte("12345678901234567890"), []byte("x…7"))
	f.Add([]byte("P1234567890123456789012"), []byte(`"7" a7"`), []byte("\x00\x01 7\n8"))
	f.Fuzz(func(t *testing.T, a, b, c []byte) {
		var records []record.Record
		for i := range 60 { // enough of them that they are held by their shapes
			records = append(records, record.Record{Time: record.Stamp{Sec: int64(i)}, Text: [][]byte{a, b, c, otherDigits(a)}[i%4]})
		}
		var all block.Builder
		want := map[string]int{}
		for i := range records {
			all.Add(uint64(i+1), &records[i])
			want[string(shape.Append(nil, records[i].Text))]++
		}
		content, err := block.Open(all.Finish(nil))
		if err != nil {
			t.Fatal(err)
		}
		kinds, err := content.Kinds(60, true)
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range kinds {
			if k.Count != want[string(k.Shape)] {
				t.Errorf("%d of %q, not %d", k.Count, k.Shape, want[string(k.Shape)])
			}
		}
	})
}
