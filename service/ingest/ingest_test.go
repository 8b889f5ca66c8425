package ingest

import (
	"errors"
	"testing"
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
