package intake

import (
	"sync/atomic"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/record"
)

// Endpoint is one address that is read from. Its owner may change with the plan.
type Endpoint interface {
	// Run reads until the endpoint is drained. It has a goroutine of its own.
	Run()
	// Drain stops taking, reads what the kernel holds until deadline, and closes. It may be called again.
	Drain(deadline time.Time)
	// Close closes an endpoint that was not run.
	Close()
	// Owner returns the intake that the records are of.
	Owner() *Intake
	// SetOwner changes it, between two batches.
	SetOwner(*Intake)
	// Bound returns the address that was opened, as "send --to" takes it.
	Bound() string
	// Tell adds what is to be told of the endpoint to the status of its intake.
	Tell(*client.IntakeStatus)
	// Rereads returns what reads from where the outlets are, and can read again; nil where
	// nothing does.
	Rereads() Rereader
	// Landed returns how many records were read and not passed on, and begins anew at 0.
	Landed() int64
	// GivenUp returns a channel that is closed when what the endpoint has is not to
	// be taken any more; nil where that never is.
	GivenUp() <-chan struct{}
}

// Rereader is an endpoint whose records stand somewhere, so that they can be read again:
// how far they were passed on is kept with each outlet.
type Rereader interface {
	Endpoint
	// Abandon ends the reading where it is: what was read and not taken is read again
	// by the next endpoint.
	Abandon()
	// IsOver tells whether the reading has ended, or is about to.
	IsOver() bool
	// Positions returns how far the sources are read.
	Positions() []record.Mark
	// Files tells how far each file is followed, or the journal.
	Files() []client.FollowedFile
}

// Common is the part that all endpoints share.
type Common struct {
	in     atomic.Pointer[Intake]
	flying atomic.Int64 // records that are read, and not passed on yet
}

// Owner implements [Endpoint].
func (c *Common) Owner() *Intake { return c.in.Load() }

// SetOwner implements [Endpoint].
func (c *Common) SetOwner(in *Intake) { c.in.Store(in) }

// Tell implements [Endpoint]: there is nothing beside the address to tell.
func (c *Common) Tell(*client.IntakeStatus) {}

// Rereads implements [Endpoint]: what is read stands nowhere.
func (c *Common) Rereads() Rereader { return nil }

// Landed implements [Endpoint].
func (c *Common) Landed() int64 { return c.flying.Swap(0) }

// GivenUp implements [Endpoint]: all that is read is taken.
func (c *Common) GivenUp() <-chan struct{} { return nil }
