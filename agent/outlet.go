package agent

import (
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// outlet is a named way out. It has a goroutine of its own, which run is.
type outlet interface {
	// key says what the outlet writes to: only one may do so.
	key() string
	// configure puts other settings for the same key in force.
	configure(plan.Outlet)
	// take takes the records of b that are marked for the outlet with that
	// number, and keeps nothing of b. Where it is full it sheds those of an
	// intake that cannot wait.
	take(b *record.Batch, marks *route.Marks, number int, canWait bool)
	// taken tells how far the outlet has taken a followed source, and whether it knows it.
	taken(source string) (offset int64, known bool)
	// begin sets how far sources are taken, for an outlet that is new, and writes it down.
	begin([]record.Mark) error
	// forget lets go of sources that are followed no more.
	forget(sources []string)
	// waitForRoom returns a channel that is closed when there may be room for an
	// intake that can wait, nil where there is.
	waitForRoom() <-chan struct{}
	// run writes until the outlet has left or is stopped.
	run()
	// leave makes the outlet end once it has written what it holds.
	leave()
	// stay takes leave back, and tells whether it was in time.
	stay() bool
	// stop makes the outlet write down what it holds and end, at the latest at deadline. Call it once.
	stop(deadline time.Time)
	// status tells how the outlet is. Between two batches its account closes.
	status(leaving bool) OutletStatus
	snapshot() balance.Outlet
	// settled returns the settings in force.
	settled() plan.Outlet
	isLeaving() bool
	// shed counts records that the outlet was to get and does not.
	shed(records int64)

	// fail puts the outlet out of use, as a kill would: it writes nothing more, and
	// run ends. What can wait is held back from it until replaced is called.
	fail()
	down() bool
	replaced()
	// got returns how many records of the last batch that was given it has counted.
	got() int64
	// inMemory returns how many records it holds that are on no disk, and how many
	// of those are of sources that can be read again.
	inMemory() (held, again int64)
	// carry has the outlet go on with the account of one that has failed, before it runs.
	carry(balance.Outlet)
}

// common is the part that all outlets share: their settings, their leaving, and
// how they fail.
type common struct {
	broken atomic.Bool
	once   sync.Once
	broke  chan struct{} // closed when the outlet fails
	mended chan struct{} // closed when another has taken its place

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

func (c *common) fail() {
	c.broken.Store(true)
	c.once.Do(func() { close(c.broke) })
}

func (c *common) down() bool { return c.broken.Load() }

func (c *common) replaced() { close(c.mended) }

func (c *common) settled() plan.Outlet {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.settings
}

func (c *common) isLeaving() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.leaves
}

func (c *common) stay() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended {
		return false
	}
	c.leaves = false
	return true
}

func (c *common) got() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.counted
}

func keyOf(s plan.Outlet) string {
	if s.Kind == "file" {
		return "file " + s.File.Path
	}
	return s.Kind + " " + s.Name // which names its feed
}

// newOutlet makes an outlet, which does not run yet.
func (a *Agent) newOutlet(s plan.Outlet) (outlet, error) {
	if s.Kind == "file" {
		return a.newFileOutlet(s), nil
	}
	o, err := a.newSpoolOutlet(s)
	if err != nil {
		return nil, fmt.Errorf("outlet %s: %w", s.Name, err)
	}
	return o, nil
}

// spoolDir is the folder of an outlet's spool. One of another kind under the
// same name has another: what it holds is for another side.
func (s *state) spoolDir(o plan.Outlet) string {
	name := o.Name
	if o.Kind != "store" {
		name += "@" + o.Kind
	}
	return filepath.Join(s.dir, "spool", name)
}
