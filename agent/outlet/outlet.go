// Package outlet is each way by which records leave an agent: [File] writes them
// into rolled sets of files, and [Spool] keeps them on disk until another side has
// them. Where a spool's records go, its road knows: to a cask of the store, to a
// receiver of syslog, OTLP or JSON over HTTP, or to a person as a notice.
//
// All outlets have one life. [Agent.Open] makes one, which begins with what stands
// on the disk, and [Outlet.Run] is its goroutine. While it is in the plan it takes
// each batch that the agent passes ([Outlet.Take]); where it is full those wait who
// can ([Outlet.WaitForRoom]), and the others' records are shed. An outlet that is
// no longer in the plan writes down or sends what it holds and ends
// ([Outlet.Leave]), unless a later plan wants it back ([Outlet.Stay]). When the
// agent stops, what is held is written down ([Outlet.Stop]). One that has failed
// ([Outlet.Fail]) is replaced by another that goes on with its account.
//
// Take and what changes the set of outlets is called by the agent, one call at a
// time for each outlet; the rest may be called by several goroutines.
package outlet

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/delay"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// Agent is the agent as its outlets see it. It is filled in before the first
// outlet is opened and not changed then. Its functions may be called by several
// goroutines at a time.
type Agent struct {
	Log      *slog.Logger
	State    *state.Folder
	Guard    *guard.Guard
	Told     *History
	HostName func() string
	// AllRead tells whether the files that are followed were all read to their ends.
	AllRead func() bool
	// Delivered is called after each batch that another side has confirmed.
	Delivered func()
	// Outlets returns the outlets in force, in the order of the plan.
	Outlets func() []Outlet
	// BetweenBatches calls look while no batch is being passed: all outlets have got
	// what any of them has got.
	BetweenBatches func(look func([]Outlet))
}

// Outlet is a named way out.
type Outlet interface {
	// Key says what the outlet writes to: only one may do so.
	Key() string
	// Configure puts other settings for the same key in force.
	Configure(plan.Outlet)
	// Settings returns the settings in force.
	Settings() plan.Outlet

	// Take takes the records of b that are routed to the outlet with that
	// number, and keeps nothing of b. Where it is full it sheds those of an
	// intake that cannot wait.
	Take(b *record.Batch, routing *route.Routing, number int, canWait bool)
	// WaitForRoom returns a channel that is closed when there may be room for an
	// intake that can wait, nil where there is.
	WaitForRoom() <-chan struct{}
	// Shed counts records that the outlet was to get and does not.
	Shed(records int64)

	// Taken tells how far the outlet has taken a followed source, and whether it knows it.
	Taken(source string) (offset int64, known bool)
	// SetTaken sets how far sources are taken, for an outlet that is new, and writes it down.
	SetTaken([]record.Mark) error
	// Forget lets go of sources that are followed no more.
	Forget(sources []string)

	// Run writes until the outlet has left or is stopped.
	Run()
	// Leave makes the outlet end once it has written what it holds.
	Leave()
	// Stay takes Leave back, and tells whether it was in time.
	Stay() bool
	// IsLeaving tells whether it is to end.
	IsLeaving() bool
	// Stop makes the outlet write down what it holds and end, at the latest at deadline. Call it once.
	Stop(deadline time.Time)

	// Status tells how the outlet is; that it is in the plan no more the agent knows.
	Status() client.OutletStatus
	// Account returns its counters. Between two batches they close.
	Account() balance.Outlet
	// Rolls returns what rolls files for the outlet, nil where it writes none.
	Rolls() *File
	// Spools returns what keeps a spool for the outlet, nil where it has none.
	Spools() *Spool

	// Pause has the outlet hold what comes until a time, and go on at once where that is zero.
	Pause(until time.Time)
	// Fail puts the outlet out of use, as a kill would: it writes nothing more, and
	// Run ends. What can wait is held back from it until Replaced is called.
	Fail()
	// IsDown tells whether it has failed.
	IsDown() bool
	// Replaced tells those who wait that another has taken its place.
	Replaced()
	// Got returns how many records of the last batch that was given it has counted.
	Got() int64
	// InMemory returns how many records it holds that are on no disk, and how many
	// of those are of sources that can be read again.
	InMemory() (held, again int64)
	// Carry has the outlet go on with the account of one that has failed, before it runs.
	Carry(balance.Outlet)
}

// common is the part that all outlets share: their settings, their leaving, and
// how they fail.
type common struct {
	broken atomic.Bool
	once   sync.Once
	broke  chan struct{} // closed when the outlet fails
	mended chan struct{} // closed when another has taken its place

	delay delay.Histogram // of the oldest record of each write or delivery

	pausedUntil atomic.Int64 // nanoseconds since 1970, 0 for not paused

	mu       sync.Mutex
	settings plan.Outlet
	leaves   bool
	ended    bool
	counted  int64 // records of the batch that is being taken, or was last
	heldFrom int64 // records in memory that are of sources
}

func newCommon(s plan.Outlet) common {
	return common{settings: s, broke: make(chan struct{}), mended: make(chan struct{})}
}

func (c *common) Fail() {
	c.broken.Store(true)
	c.once.Do(func() { close(c.broke) })
}

func (c *common) Pause(until time.Time) {
	if until.IsZero() {
		c.pausedUntil.Store(0)
		return
	}
	c.pausedUntil.Store(until.UnixNano())
}

// paused tells until when the outlet is paused, the zero time where it is not.
func (c *common) paused() (until time.Time) {
	at := c.pausedUntil.Load()
	if at == 0 || at <= time.Now().UnixNano() {
		return until
	}
	return time.Unix(0, at)
}

func (c *common) Rolls() *File   { return nil }
func (c *common) Spools() *Spool { return nil }

func (c *common) IsDown() bool { return c.broken.Load() }

func (c *common) Replaced() { close(c.mended) }

func (c *common) Settings() plan.Outlet {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.settings
}

func (c *common) IsLeaving() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.leaves
}

func (c *common) Stay() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended {
		return false
	}
	c.leaves = false
	return true
}

func (c *common) Got() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.counted
}

// KeyOf returns the key of the outlet that settings are for.
func KeyOf(s plan.Outlet) string {
	if s.Kind == plan.FileOutlet {
		return "file " + s.File.Path
	}
	return string(s.Kind) + " " + s.Name // which names its feed
}

// Open makes an outlet, which does not run yet.
func (a *Agent) Open(s plan.Outlet) (Outlet, error) {
	if s.Kind == plan.FileOutlet {
		return a.openFile(s), nil
	}
	o, err := a.openSpool(s)
	if err != nil {
		return nil, fmt.Errorf("outlet %s: %w", s.Name, err)
	}
	return o, nil
}

// spoolDir returns the folder of an outlet's spool. One of another kind under the
// same name has another: what it holds is for another side.
func spoolDir(stateDir string, o plan.Outlet) string {
	name := o.Name
	if o.Kind != plan.StoreOutlet {
		name += "@" + string(o.Kind)
	}
	return filepath.Join(stateDir, "spool", name)
}
