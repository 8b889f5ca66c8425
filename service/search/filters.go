package search

import (
	"sync"

	"oakbarrel/core/block"
)

// maxFilters bounds what the filters in memory take, in bytes.
const maxFilters = 64 << 20

// filters keeps the filters that were asked for lately. When the newer half is
// full it becomes the older one, which is given up; what is asked for there
// comes back. The zero filters is ready, and safe for concurrent use.
type filters struct {
	mu           sync.Mutex
	newer, older map[uint64]block.Words
	size         int // of newer, in bytes
}

// get returns the filters that are known, and the blocks of the others.
func (f *filters) get(heads []head) (found map[uint64]block.Words, missing []uint64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	found = map[uint64]block.Words{}
	for _, h := range heads {
		w, known := f.newer[h.ID]
		if !known {
			if w, known = f.older[h.ID]; known {
				f.add(h.ID, w)
			}
		}
		if known {
			found[h.ID] = w
		} else {
			missing = append(missing, h.ID)
		}
	}
	return found, missing
}

func (f *filters) put(id uint64, w block.Words) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.add(id, w)
}

func (f *filters) add(id uint64, w block.Words) {
	if f.newer == nil || f.size > maxFilters/2 {
		f.newer, f.older, f.size = map[uint64]block.Words{}, f.newer, 0
	}
	f.newer[id] = w
	f.size += len(w)
}
