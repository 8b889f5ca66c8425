package ingest

import (
	"math/rand/v2"
	"reflect"
	"testing"
)

func TestCountsBesideABlock(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 9))
	for range 200 {
		counts := map[int64]*[8]int64{}
		for range rnd.IntN(40) {
			of := new([8]int64)
			for range 1 + rnd.IntN(4) {
				of[rnd.IntN(8)] = 1 + rnd.Int64N(1<<rnd.IntN(40))
			}
			counts[rnd.Int64N(1<<40)-(1<<39)] = of
		}
		got, err := openMinutes(packMinutes(counts))
		if err != nil || !reflect.DeepEqual(got, counts) {
			t.Fatalf("%v: %v, want %v", err, got, counts)
		}
	}
}

// Whatever stands beside a block, reading it ends.
func FuzzCountsBesideABlock(f *testing.F) {
	f.Add(packMinutes(map[int64]*[8]int64{29_900_000: {1, 2, 3}, 29_900_001: {7: 9}}))
	f.Add([]byte{2, 255})
	f.Fuzz(func(t *testing.T, packed []byte) {
		if counts, err := openMinutes(packed); err == nil {
			if again, err := openMinutes(packMinutes(counts)); err != nil || len(again) > len(counts) {
				t.Fatal(again, err)
			}
		}
	})
}
