package agent

import (
	"slices"
	"sync"
	"time"
)

const (
	toldFile = "told.json" // of a state folder: what persons were told last
	mostTold = 30          // notices that are remembered
)

// Told is a notice that a person got.
type Told struct {
	At      time.Time `json:"at"`
	Outlet  string    `json:"outlet"`
	Title   string    `json:"title"`
	Text    string    `json:"text"` // with times in UTC
	Records int64     `json:"records"`
}

// history is what persons were told last, the newest first. It may be used by
// several goroutines at a time.
type history struct {
	mu    sync.Mutex
	state *state
	all   []Told
}

func newHistory(s *state) *history {
	h := &history{state: s}
	s.load(toldFile, &h.all) // without it, nobody was told
	return h
}

// add remembers a notice. What cannot be written down is forgotten with the process.
func (h *history) add(t Told) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = slices.Insert(h.all, 0, t)
	h.all = h.all[:min(len(h.all), mostTold)]
	h.state.save(toldFile, h.all)
}

func (h *history) list() []Told {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]Told{}, h.all...)
}
