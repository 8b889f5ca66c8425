package outlet

import (
	"slices"
	"sync"

	"oakbarrel/agent/state"
	"oakbarrel/client"
)

const (
	toldFile = "told.json" // of a state folder: what persons were told last
	mostTold = 30          // notices that are remembered
)

// History is what persons were told last, the newest first. It may be used by
// several goroutines at a time.
type History struct {
	mu    sync.Mutex
	state *state.Folder
	all   []client.Told
}

// NewHistory returns what a state folder remembers.
func NewHistory(s *state.Folder) *History {
	h := &History{state: s}
	s.Load(toldFile, &h.all) // without it, nobody was told
	return h
}

// add remembers a notice. What cannot be written down is forgotten with the process.
func (h *History) add(t client.Told) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = slices.Insert(h.all, 0, t)
	h.all = h.all[:min(len(h.all), mostTold)]
	h.state.Save(toldFile, h.all)
}

// List returns a copy.
func (h *History) List() []client.Told {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]client.Told{}, h.all...)
}
