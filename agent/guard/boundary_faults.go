//go:build faults

package guard

import (
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"time"
)

// thrower throws a panic at one of the boundaries once in a while, as the
// environment says: OAKBARREL_PANICS is the time between two, on the average.
var thrower struct {
	sync.Mutex
	next time.Time
}

// Boundary is called where a fault could cross from one part into another.
var Boundary = func(name string) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_PANICS"))
	if err != nil {
		return
	}
	thrower.Lock()
	now := time.Now()
	due := !thrower.next.IsZero() && now.After(thrower.next)
	if due || thrower.next.IsZero() {
		thrower.next = now.Add(rand.N(2 * span))
	}
	thrower.Unlock()
	if due {
		panic("thrown at " + name + " " + strconv.Itoa(rand.IntN(1000)))
	}
}
