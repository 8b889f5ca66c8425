package search

import (
	"runtime/debug"
	"sync"
	"time"

	"oakbarrel/core/block"
)

// recent keeps the blocks that were asked for lately. When the newer half is
// full it becomes the older one, which is given up; what is asked for there
// comes back. Once nothing was asked for during a while, all is given up, and the memory
// goes back to the system. It is safe for concurrent use.
//
// It is looked up by all that is known of a block, and not by the id alone: in
// a database that was restored from an older copy ids come again.
type recent struct {
	half int // how much each half may be, in bytes

	mu           sync.Mutex
	newer, older map[head]kept
	size         int // of newer, in bytes
	resting      *time.Timer
}

// restTime is for how long nobody asks until all is given up.
const restTime = 2 * time.Minute

// rest gives all up.
func (r *recent) rest() {
	r.mu.Lock()
	r.newer, r.older, r.size = nil, nil, 0
	r.mu.Unlock()
	debug.FreeOSMemory()
}

// key is what a block is looked up by: what is known of its agent may change.
func (h head) key() head {
	h.agent = nil
	return h
}

// kept is a block, and how many bytes it takes.
type kept struct {
	block *block.Block
	size  int
}

// lookUp returns a block that is kept, and keeps it no longer, as one goroutine
// alone may read it.
func (r *recent) lookUp(h head) (k kept, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if k, known = r.newer[h.key()]; known {
		r.size -= k.size
	} else {
		k, known = r.older[h.key()]
	}
	delete(r.newer, h.key())
	delete(r.older, h.key())
	return k, known
}

func (r *recent) put(h head, k kept) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.newer == nil || r.size > r.half {
		r.newer, r.older, r.size = map[head]kept{}, r.newer, 0
	}
	if r.resting == nil {
		r.resting = time.AfterFunc(restTime, r.rest)
	} else {
		r.resting.Reset(restTime)
	}
	r.size += k.size - r.newer[h.key()].size
	r.newer[h.key()] = k
}
