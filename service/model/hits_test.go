package model

import (
	"reflect"
	"testing"
)

func TestHitsAreReadAsTheyWerePacked(t *testing.T) {
	hits := []Hit{
		{AlertID: 1, Number: 2, Who: "", First: -5, Last: 1 << 40, Count: 7, Also: 3, Value: -1.5},
		{AlertID: 1 << 60, Number: 1, Who: "\xff\x00reef", First: 9, Last: 9, Shape: &NewShape{CaskID: 3, Key: 1<<64 - 1, Began: -62135596800e6}},
	}
	found, err := OpenHits(PackHits(hits))
	if err != nil || !reflect.DeepEqual(found, hits) {
		t.Errorf("%+v %v", found, err)
	}
	if found, err = OpenHits(nil); err != nil || len(found) != 0 {
		t.Errorf("%+v %v", found, err)
	}
}

func FuzzHits(f *testing.F) {
	f.Add(PackHits([]Hit{{AlertID: 1, Who: "reef-02", Count: 3}, {Shape: &NewShape{Key: 5}}}))
	f.Fuzz(func(t *testing.T, packed []byte) {
		hits, err := OpenHits(packed)
		if err != nil {
			return
		}
		again, err := OpenHits(PackHits(hits))
		if err != nil || len(again) != len(hits) {
			t.Errorf("%v: %d and %d", err, len(hits), len(again))
		}
	})
}
