// Package delay keeps how long things took, as a histogram with bounds that are the same
// everywhere: from a millisecond, in which a file is written, to the hours for which a
// store can be away. It depends on nothing.
package delay

import (
	"sync/atomic"
	"time"
)

// bounds are the upper ends of the buckets, in seconds; what is over the last is in none.
var bounds = [...]float64{0.001, 0.005, 0.025, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60, 300, 1800, 7200, 86400}

// Histogram counts how long things took. The zero value is ready; it may be used by
// several goroutines at a time.
type Histogram struct {
	counts [len(bounds)]atomic.Int64
	all    atomic.Int64
	micros atomic.Int64
}

// Observe counts one that took so long; what is less than nothing, as after a clock was
// set, counts as nothing.
func (h *Histogram) Observe(took time.Duration) {
	took = max(took, 0)
	h.all.Add(1)
	h.micros.Add(took.Microseconds())
	for i, bound := range bounds {
		if took.Seconds() <= bound {
			h.counts[i].Add(1)
			return
		}
	}
}

// Seen is what a histogram has counted.
type Seen struct {
	Count   int64    `json:"count"`
	Seconds float64  `json:"seconds"` // all together
	Within  []Bucket `json:"within"`  // each has those of the buckets before, too
}

// Bucket is how many took at most so long.
type Bucket struct {
	Seconds float64 `json:"seconds"`
	Count   int64   `json:"count"`
}

// Seen returns what was counted. While others observe, it may lack some of their parts,
// but no bucket has more than Count.
func (h *Histogram) Seen() Seen {
	s, sum := Seen{Within: make([]Bucket, 0, len(bounds))}, int64(0)
	for i, bound := range bounds {
		sum += h.counts[i].Load()
		s.Within = append(s.Within, Bucket{bound, sum})
	}
	s.Count, s.Seconds = max(sum, h.all.Load()), float64(h.micros.Load())/1e6
	return s
}
