package search

import (
	"container/heap"
	"errors"
)

// ErrTooMuch says that more records overlap in time than are held at once.
var ErrTooMuch = errors.New("more records of the same time would have to be held than there is room for; ask for a shorter span, or for fewer")

// mostWaiting bounds what a search holds of records that others may come before, in bytes.
const mostWaiting = 256 << 20

// waiting are the hits that were found while something before them may still come: a
// list for each block, in order, as a heap by the first of each.
type waiting struct {
	q     *Query
	lists [][]Hit
	bytes int
}

func (w *waiting) Len() int           { return len(w.lists) }
func (w *waiting) Less(i, j int) bool { return w.q.order(w.lists[i][0].Place, w.lists[j][0].Place) < 0 }
func (w *waiting) Swap(i, j int)      { w.lists[i], w.lists[j] = w.lists[j], w.lists[i] }
func (w *waiting) Push(x any)         { w.lists = append(w.lists, x.([]Hit)) }

func (w *waiting) Pop() any {
	last := w.lists[len(w.lists)-1]
	w.lists = w.lists[:len(w.lists)-1]
	return last
}

// add adds the hits of a block, which are in order.
func (w *waiting) add(hits []Hit) error {
	if len(hits) == 0 {
		return nil
	}
	for _, h := range hits {
		w.bytes += len(h.JSON)
	}
	if w.bytes > mostWaiting {
		return ErrTooMuch
	}
	heap.Push(w, hits)
	return nil
}

// next takes the first hit, if nothing of the block behind, nil for none, can come
// before it.
func (w *waiting) next(behind *head) (h Hit, some bool) {
	if len(w.lists) == 0 {
		return h, false
	}
	h = w.lists[0][0]
	if behind != nil && !w.q.before(h.Place.Time, w.q.bound(*behind)) {
		return h, false
	}
	w.bytes -= len(h.JSON)
	if w.lists[0] = w.lists[0][1:]; len(w.lists[0]) == 0 {
		heap.Pop(w)
	} else {
		heap.Fix(w, 0)
	}
	return h, true
}
