// Package watch tells the hops of a traced record as they come about: taken in,
// judged by the rules, written or spooled, and confirmed. A [Watcher] is for one
// goroutine.
package watch

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/roll"
)

// hopPause is how long a watcher waits between two looks.
const hopPause = 10 * time.Millisecond

// Watcher tells the hops of a traced record as they come about.
type Watcher struct {
	Mark  string
	Start time.Time // when the record was sent
	Tell  func(client.Hop)
	told  map[string]bool
}

// Hop tells a hop, at the time that it is now.
func (w *Watcher) Hop(h client.Hop) {
	h.Ms = float64(time.Since(w.Start).Microseconds()) / 1000
	w.Tell(h)
}

// once tells a hop that has been made, the first time.
func (w *Watcher) once(h client.Hop) {
	key := h.Hop + " " + h.Outlet
	if w.told[key] {
		return
	}
	w.told[key] = true
	h.Done = true
	w.Hop(h)
}

// Watch looks where the record is until it has come to all of its outlets,
// wait is over or ctx ends, and then tells where it has stopped and why. It
// returns what it saw last, and whether the record has come to all of them.
func (w *Watcher) Watch(ctx context.Context, wait time.Duration, look func() (client.Trace, error)) (now client.Trace, arrived bool, err error) {
	w.told = map[string]bool{}
	for deadline := time.Now().Add(wait); ; time.Sleep(hopPause) {
		if now, err = look(); err != nil {
			return now, false, err
		}
		if left := w.tellDone(now); left == 0 || time.Now().After(deadline) || ctx.Err() != nil {
			return now, w.conclude(now), nil
		}
	}
}

// tellDone tells the hops that have been made, and returns how many are left at least.
func (w *Watcher) tellDone(now client.Trace) (left int) {
	if now.TakenIn == nil {
		return 1
	}
	w.once(client.Hop{Hop: "taken in", Detail: "by intake " + now.Intake})
	w.once(client.Hop{Hop: "rules", Detail: rulesOfTrace(now)})
	for _, o := range now.Outlets {
		sends := o.Kind != plan.FileOutlet
		if sends && (o.Spooled || o.Done) {
			w.once(client.Hop{Hop: "spooled", Outlet: o.Name, Detail: "for " + o.Path})
		}
		switch {
		case sends && o.Done:
			w.once(client.Hop{Hop: "confirmed", Outlet: o.Name, Detail: takenBy(o)})
		case !sends && o.Done && !w.told["written "+o.Name]:
			w.once(client.Hop{Hop: "written", Outlet: o.Name, Detail: w.place(o.Path)})
		}
		if !o.Done {
			left++
		}
	}
	return left
}

// takenBy tells who has a record now.
func takenBy(o client.OutletOfTrace) string {
	switch {
	case o.Kind == plan.StoreOutlet:
		return "by the store, in " + o.Path
	case strings.HasPrefix(o.Path, "udp "):
		return "it is sent to " + o.Path + ", which answers nothing"
	}
	return "by " + o.Path
}

func rulesOfTrace(t client.Trace) string {
	var parts []string
	for _, r := range t.Rules {
		part := r.Name
		if len(r.Changes) > 0 {
			part += " (" + strings.Join(r.Changes, "; ") + ")"
		}
		parts = append(parts, part)
	}
	text := "no rule matches, so otherwise acts"
	if len(parts) > 0 {
		text = "matched " + strings.Join(parts, ", ")
	}
	if t.Dropped != "" {
		text += "; dropped by " + t.Dropped
	}
	var names []string
	for _, o := range t.Outlets {
		names = append(names, o.Name)
	}
	if len(names) == 0 {
		return text + "; goes nowhere"
	}
	return text + "; goes to " + strings.Join(names, ", ")
}

// conclude tells where the record has stopped, and whether it has arrived.
func (w *Watcher) conclude(now client.Trace) (arrived bool) {
	if now.TakenIn == nil {
		w.Hop(client.Hop{Hop: "taken in", Detail: "the agent has not seen it; a datagram may be lost, or the plan does not allow this sender (oakbarrel status tells how many were turned away)"})
		return false
	}
	arrived = len(now.Outlets) > 0
	for _, o := range now.Outlets {
		if o.Done {
			continue
		}
		arrived = false
		h := client.Hop{Hop: "written", Outlet: o.Name, Detail: o.Trouble}
		if o.Kind != plan.FileOutlet {
			h.Hop = "confirmed"
		}
		if h.Detail == "" {
			h.Detail = "it waits; a batch may not be full yet, or the other side is slow"
		}
		w.Hop(h)
	}
	return arrived
}

// place returns the file and the offset of the record in a rolled set.
func (w *Watcher) place(path string) string {
	set, err := roll.NewReader(path, false)
	if err != nil {
		return path
	}
	defer set.Close()
	for i := set.Files() - 1; i >= max(0, set.Files()-2); i-- {
		offset, found := int64(0), int64(-1)
		set.Lines(i, func(line []byte) error {
			if bytes.Contains(line, []byte(w.Mark)) {
				found = offset
			}
			offset += int64(len(line)) + 1
			return nil
		})
		if found >= 0 {
			return fmt.Sprintf("%s, offset %d", set.Path(i), found)
		}
	}
	return path + "; the format of its lines does not show the text"
}
