package intake

import (
	"sync"
	"sync/atomic"
	"time"

	"oakbarrel/client"
)

// Absent stands in the place of an endpoint that cannot be opened yet.
type Absent struct {
	Common
	key   Key
	why   atomic.Pointer[string]
	ended chan struct{}
	once  sync.Once
}

// NewAbsent returns one that tells why.
func NewAbsent(key Key, why string) *Absent {
	e := &Absent{key: key, ended: make(chan struct{})}
	e.Explain(why)
	return e
}

// Explain changes why it is absent.
func (e *Absent) Explain(why string) { e.why.Store(&why) }

// Run implements [Endpoint].
func (e *Absent) Run() { <-e.ended }

// Drain implements [Endpoint].
func (e *Absent) Drain(time.Time) { e.Close() }

// Close implements [Endpoint].
func (e *Absent) Close() { e.once.Do(func() { close(e.ended) }) }

// Bound implements [Endpoint].
func (e *Absent) Bound() string { return e.key.String() }

// Tell implements [Endpoint].
func (e *Absent) Tell(s *client.IntakeStatus) { s.Trouble = *e.why.Load() }
