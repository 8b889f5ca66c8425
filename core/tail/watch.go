package tail

import (
	"sync"

	"github.com/fsnotify/fsnotify"

	"oakbarrel/core/disk"
)

// changes are what the kernel has told since they were last taken.
type changes struct {
	again   bool            // names changed, or something was missed: all has to be looked at
	written map[string]bool // paths of files that were written to
}

// watcher is told by the kernel what changes in folders. Where it cannot be,
// polls says that changes have to be looked for.
type watcher struct {
	wake  chan struct{} // there are changes
	polls bool          // of the goroutine of folders

	kernel *fsnotify.Watcher // nil where there is none
	mu     sync.Mutex
	now    changes
}

func newWatcher(poll bool, wake chan struct{}) *watcher {
	w := &watcher{wake: wake, polls: poll, now: changes{written: map[string]bool{}}}
	if poll {
		return w
	}
	kernel, err := fsnotify.NewBufferedWatcher(64)
	if err != nil {
		w.polls = true
		return w
	}
	w.kernel = kernel
	go w.listen()
	return w
}

func (w *watcher) listen() {
	for {
		select {
		case e, open := <-w.kernel.Events:
			if !open {
				return
			}
			w.collect(e)
		case _, open := <-w.kernel.Errors: // most likely more than its queue holds
			if !open {
				return
			}
			w.collect(fsnotify.Event{Op: fsnotify.Rename})
		}
	}
}

func (w *watcher) collect(e fsnotify.Event) {
	if e.Op == fsnotify.Chmod {
		return
	}
	w.mu.Lock()
	if e.Op == fsnotify.Write {
		w.now.written[e.Name] = true
	} else {
		w.now.again = true
	}
	w.mu.Unlock()
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// drain returns the changes, which are new ones from then on.
func (w *watcher) drain() changes {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := w.now
	w.now = changes{written: map[string]bool{}}
	return c
}

// folders says which folders are to be watched.
func (w *watcher) folders(all map[string]bool) {
	if w.kernel == nil {
		return
	}
	w.polls = false
	watched := map[string]bool{}
	for _, dir := range w.kernel.WatchList() {
		if watched[dir] = true; !all[dir] {
			w.kernel.Remove(dir)
		}
	}
	for dir := range all {
		if disk.IsBlind(dir) || !watched[dir] && w.kernel.Add(dir) != nil { // more than the system allows
			w.polls = true
		}
	}
}

func (w *watcher) close() {
	if w.kernel != nil {
		w.kernel.Close()
	}
}
