package search

import (
	"testing"
	"testing/synctest"
	"time"
)

// What is kept goes once nobody has asked for anything during a while, and not before.
func TestWhatIsKeptGoesWhenNobodyAsks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := recent{half: 100}
		for range 5 {
			r.put(head{ID: 1}, kept{size: 10})
			time.Sleep(restTime - time.Second)
			if _, known := r.lookUp(head{ID: 1}); !known {
				t.Fatal("it is gone while somebody asks now and then")
			}
		}
		r.put(head{ID: 1}, kept{size: 10})
		time.Sleep(restTime + time.Second)
		if _, known := r.lookUp(head{ID: 1}); known || r.size != 0 {
			t.Error("it is kept while nobody asks")
		}
	})
}

func TestWhatWasAskedForLatelyIsKept(t *testing.T) {
	r := recent{half: 100}
	at := func(id uint64) head { return head{ID: id} }
	for id := uint64(1); id <= 100; id++ {
		r.put(at(id), kept{size: 10})
		if id > 1 {
			k, known := r.lookUp(at(1))
			if !known || k.size != 10 {
				t.Fatalf("what is asked for again and again is gone after %d others", id)
			}
			r.put(at(1), k)
		}
	}
	if _, known := r.lookUp(at(2)); known {
		t.Error("what nobody asks for is kept")
	}
	sum := 0
	for id := uint64(1); id <= 100; id++ {
		if k, known := r.lookUp(at(id)); known {
			sum += k.size
		}
		if _, known := r.lookUp(at(id)); known {
			t.Errorf("%d is kept, and was taken", id)
		}
	}
	if sum < 100 || sum > 240 || r.size != 0 {
		t.Errorf("%d bytes were kept, %d are", sum, r.size)
	}
	r.put(at(1), kept{size: 30})
	r.put(at(1), kept{size: 40})
	if r.size != 40 {
		t.Errorf("what was put twice counts as %d bytes", r.size)
	}
	if _, known := r.lookUp(head{ID: 1, FirstNumber: 2}); known {
		t.Error("an id that came again shows what it was before")
	}
}
