package api

import (
	"maps"
	"slices"
	"sync"
)

// lacking notes which shelves are away, so that an answer lacks what they have. It may be
// used by several goroutines at a time.
type lacking struct {
	mu    sync.Mutex
	named map[string]bool
}

func (l *lacking) note(shelf string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.named == nil {
		l.named = map[string]bool{}
	}
	l.named[shelf] = true
}

// names returns the names of the shelves, in order; none where the answer is whole.
func (l *lacking) names() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Sorted(maps.Keys(l.named))
}
