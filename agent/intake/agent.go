package intake

import (
	"context"
	"log/slog"
	"sync"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/state"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/unit"
)

// Agent is the agent as its intakes see it. It is filled in before the first
// endpoint is opened and not changed then. Its functions may be called by several
// goroutines at a time.
type Agent struct {
	Log      *slog.Logger
	State    *state.Folder
	Guard    *guard.Guard
	Memory   *Budget
	Own      *OwnLog
	Ending   context.Context // done when the agent is to stop
	HostName func() string
	Unit     *unit.Manager // which keeps sockets open while the agent is started again

	// Pass gives the records of a batch to the outlets that the rules name, counts
	// them, and returns when nobody needs the batch any more. An endpoint that can
	// wait is held back while an outlet of its records is full; false tells it that
	// they were not taken, because the agent stops or the endpoint was given up.
	// Routing is the endpoint's own, used again for each batch.
	Pass func(b *record.Batch, routing *route.Routing, from Endpoint, canWait bool) bool
	// Taken tells how far each outlet in force has taken a source that is followed,
	// and begin for one that does not know it.
	Taken func(source string, begin int64) []int64
	// Forget has the outlets let go of sources that are followed no more.
	Forget func(sources []string)

	keptMu    sync.Mutex // is held while keptDropsFile is changed
	handovers handovers
	places    places
	follows   map[string]*Follow  // by the file of what they write down
	logs      map[string]Rereader // of the log of the system, by intake
}
