package search

import "sync"

// recent keeps something of the blocks that were asked for lately. When the
// newer half is full it becomes the older one, which is given up; what is asked
// for there comes back. It is safe for concurrent use.
//
// It is looked up by all that is known of a block, and not by the id alone: in
// a database that was restored from an older copy ids come again.
type recent[V any] struct {
	half   int // how much each half may be, in bytes
	sizeOf func(V) int

	mu           sync.Mutex
	newer, older map[head]V
	size         int // of newer, in bytes
}

// get returns what is kept of a block.
func (r *recent[V]) get(h head) (v V, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if v, known = r.newer[h]; known {
		return v, true
	}
	if v, known = r.older[h]; known {
		r.add(h, v)
	}
	return v, known
}

// take returns what is kept of a block, and keeps it no longer.
func (r *recent[V]) take(h head) (v V, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if v, known = r.newer[h]; known {
		r.size -= r.sizeOf(v)
	} else {
		v, known = r.older[h]
	}
	delete(r.newer, h)
	delete(r.older, h)
	return v, known
}

func (r *recent[V]) put(h head, v V) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.add(h, v)
}

func (r *recent[V]) add(h head, v V) {
	if r.newer == nil || r.size > r.half {
		r.newer, r.older, r.size = map[head]V{}, r.newer, 0
	}
	if before, known := r.newer[h]; known {
		r.size -= r.sizeOf(before)
	}
	r.newer[h] = v
	r.size += r.sizeOf(v)
}
