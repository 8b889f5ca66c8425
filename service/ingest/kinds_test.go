package ingest

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/shape"
)

func TestKindsBesideABlock(t *testing.T) {
	rnd := rand.New(rand.NewPCG(21, 9))
	for i := range 100 {
		var kinds []block.Kind
		for range 1 + rnd.IntN(60) {
			text := fmt.Appendf(nil, "pump %c", 'a'+rnd.IntN(9))
			k := block.Kind{Priority: record.Priority(rnd.IntN(192)), Shape: text, Key: shape.KeyOf(text), Count: 1 + rnd.IntN(1<<20-1)}
			if rnd.IntN(3) > 0 {
				k.Host, k.App = fmt.Appendf(nil, "reef-%02d", rnd.IntN(5)), []byte{}
			}
			k.First = record.Stamp{Sec: rnd.Int64N(1<<36) - 1<<35, Nsec: int32(rnd.IntN(1e9))}
			k.Last = record.Stamp{Sec: k.First.Sec + rnd.Int64N(1000), Nsec: 999_999_999}
			kinds = append(kinds, k)
		}
		got, facilities, err := OpenKinds(kindsOf{kinds, i%2 == 0}.pack())
		if err != nil || facilities != (i%2 == 0) || len(got) != len(kinds) {
			t.Fatalf("%d of %d kinds, %v", len(got), len(kinds), err)
		}
		for i, k := range kinds {
			g := got[i]
			first, last := Micros(k.First)-g.First, g.Last-Micros(k.Last)
			if string(g.Host) != string(k.Host) || (g.Host == nil) != (k.Host == nil) || (g.App == nil) != (k.App == nil) || g.Priority != k.Priority || g.Key != k.Key || g.Count != int64(k.Count) || first < 0 || first > 999 || last < 0 || last > 999 {
				t.Fatalf("%+v became %+v", k, g)
			}
		}
	}
	if packed := (kindsOf{}).pack(); packed == nil || len(packed) > 0 {
		t.Error("where there are too many, it must be told that somebody has looked")
	}
}

// Whatever stands beside a block, reading it ends.
func FuzzKindsBesideABlock(f *testing.F) {
	f.Add(kindsOf{all: []block.Kind{{Host: []byte("reef-02"), Key: 7, Count: 3}}}.pack())
	f.Add([]byte{1, 255, 255})
	f.Add([]byte{1, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1})
	f.Fuzz(func(t *testing.T, packed []byte) {
		kinds, _, err := OpenKinds(packed)
		if len(kinds) > len(packed) || err != nil && kinds != nil {
			t.Fatal(kinds, err)
		}
	})
}
