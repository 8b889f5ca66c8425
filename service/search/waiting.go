package search

import (
	"container/heap"
	"slices"
)

// mostWaiting bounds what a search holds of records that others may come before, in bytes.
const mostWaiting = 32 << 20

// waiting are the hits that were found while something before them may still come: a
// list for each block, in order, as a heap by the first of each. Where they are too many,
// those behind a place are let go of, and are looked for again once the others are out.
type waiting struct {
	q     *Query
	most  int // bytes that it may hold
	lists [][]Hit
	bytes int
	cut   *Place // the last that is wanted for now, nil for all
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
func (w *waiting) add(hits []Hit) {
	if hits = w.wanted(hits); len(hits) == 0 {
		return
	}
	for _, h := range hits {
		w.bytes += len(h.JSON)
	}
	heap.Push(w, hits)
	if w.bytes > w.most {
		w.halve()
	}
}

// wanted returns those of the hits, which are in order, that are not behind the cut.
func (w *waiting) wanted(hits []Hit) []Hit {
	if w.cut == nil {
		return hits
	}
	n, _ := slices.BinarySearchFunc(hits, *w.cut, func(h Hit, cut Place) int {
		if w.q.order(h.Place, cut) <= 0 {
			return -1
		}
		return 1
	})
	return hits[:n]
}

// halve lets go of the half of the hits that come last. One is left at least.
func (w *waiting) halve() {
	var places []Place
	for _, list := range w.lists {
		for _, h := range list {
			places = append(places, h.Place)
		}
	}
	slices.SortFunc(places, w.q.order)
	w.cut = &places[(len(places)-1)/2]
	lists := w.lists
	w.lists, w.bytes = nil, 0
	for _, list := range lists {
		kept := slices.Clone(w.wanted(list)) // so that the memory of the others is free
		if len(kept) == 0 {
			continue
		}
		for i := range kept {
			kept[i].JSON = slices.Clone(kept[i].JSON)
			w.bytes += len(kept[i].JSON)
		}
		w.lists = append(w.lists, kept)
	}
	heap.Init(w)
}

// last tells whether nothing of the block behind, nil for none, is wanted for now.
func (w *waiting) last(behind *head) bool {
	return behind == nil || w.cut != nil && w.q.before(w.cut.Time, w.q.bound(*behind))
}

// next takes the first hit, if nothing of the block behind, nil for none, can come
// before it.
func (w *waiting) next(behind *head) (h Hit, some bool) {
	if len(w.lists) == 0 {
		return h, false
	}
	h = w.lists[0][0]
	if !w.last(behind) && !w.q.before(h.Place.Time, w.q.bound(*behind)) {
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
