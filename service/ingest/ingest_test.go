package ingest

import (
	"errors"
	"math"
	"testing"

	"oakbarrel/core/spool"
)

// A fault of the service costs the batches that it is about an answer, and
// nobody anything else.
func TestABatchThatMakesTheServiceFailIsAnswered(t *testing.T) {
	q := &Queue{} // without a database each commit fails
	jobs := []*job{{batch: &Batch{}, done: make(chan struct{})}, {batch: &Batch{}, done: make(chan struct{})}}
	q.commitAll(jobs)
	for _, j := range jobs {
		<-j.done
		if !errors.Is(j.err, ErrFailed) {
			t.Errorf("got %v", j.err)
		}
	}
}

// The numbers of a batch are accounted for one by one: nothing is negative, nothing
// wraps, and no number is beyond what can be.
func TestTheNumbersOfABatchAddUp(t *testing.T) {
	for _, c := range []struct {
		numbers spool.Numbers
		refused int
		fits    bool
	}{
		{spool.Numbers{First: 1, Last: 10, Lost: 10}, 0, true},
		{spool.Numbers{First: 1, Last: 10, Lost: 4, Shed: [8]int{5: 3}}, 3, true},
		{spool.Numbers{First: 1, Last: 10, Lost: 9}, 0, false},
		{spool.Numbers{First: 0, Last: 9, Lost: 10}, 0, false},
		{spool.Numbers{First: 10, Last: 9}, 0, false},
		{spool.Numbers{First: 1, Last: 10, Lost: 15, Shed: [8]int{0: -5}}, 0, false},
		{spool.Numbers{First: 1, Last: 10, Lost: 11}, -1, false},
		{spool.Numbers{First: 1, Last: 10, Lost: math.MaxInt, Shed: [8]int{0: math.MaxInt, 1: 12}}, 0, false}, // which wraps to 10
		{spool.Numbers{First: math.MaxUint64 - 9, Last: math.MaxUint64, Lost: 10}, 0, false},
		{spool.Numbers{First: 1, Last: 1 << 60, Lost: 1 << 60}, 0, false},
	} {
		b := Batch{Numbers: c.numbers, Refused: c.refused}
		if err := b.Open(); (err == nil) != c.fits {
			t.Errorf("%+v, refused %d: %v", c.numbers, c.refused, err)
		}
	}
}
