package intake

import (
	"context"
	"errors"
	"io"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// Budget bounds what senders can make the agent hold in memory, in bytes: what of
// messages has come and is not whole, and requests that are being read. What is
// over waits, and is turned away where it waits in vain.
type Budget struct {
	limit, used, most atomic.Int64
	turnedAway        atomic.Int64
}

// Bounds of the budget.
const (
	defaultMemory = 256 << 20
	budgetPause   = 20 * time.Millisecond
	budgetWait    = 5 * time.Second // for room
	heapBase      = 64 << 20        // of the heap, beside what the budget bounds
)

var errNoRoom = errors.New("the agent holds as much of unfinished messages and requests as its plan allows (memory)")

// Apply puts the budget of a plan in force.
func (b *Budget) Apply(p *plan.Plan) {
	limit := p.Memory
	if limit == 0 {
		limit = min(defaultMemory, max(plan.LeastMemory, machineMemory()/10))
	}
	b.limit.Store(limit)
	debug.SetMemoryLimit(limit + heapBase)
}

// machineMemory returns how much memory there is for the agent, in bytes.
func machineMemory() int64 {
	b, _ := os.ReadFile("/proc/meminfo")
	for line := range strings.Lines(string(b)) {
		if rest, found := strings.CutPrefix(line, "MemTotal:"); found {
			kib, _ := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 10, 64)
			return kib << 10
		}
	}
	return 0
}

// enter takes room for n bytes, and tells whether there is any.
func (b *Budget) enter(n int64) bool {
	used := b.used.Add(n)
	if used > b.limit.Load() {
		b.used.Add(-n)
		return false
	}
	for {
		most := b.most.Load()
		if used <= most || b.most.CompareAndSwap(most, used) {
			return true
		}
	}
}

// wait takes room for n bytes, and waits for it for some time.
func (b *Budget) wait(ctx context.Context, n int64) bool {
	for end := time.Now().Add(budgetWait); !b.enter(n); {
		if time.Now().After(end) {
			b.turnedAway.Add(1)
			return false
		}
		guard.Pause(ctx, budgetPause)
		if ctx.Err() != nil {
			return false
		}
	}
	return true
}

func (b *Budget) leave(n int64) { b.used.Add(-n) }

// Status tells what of its memory the agent has lent.
func (b *Budget) Status() client.MemoryStatus {
	heap := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(heap) // without stopping the others, as ReadMemStats would
	return client.MemoryStatus{Limit: b.limit.Load(), Used: b.used.Load(), Most: b.most.Load(), TurnedAway: b.turnedAway.Load(), Heap: int64(heap[0].Value.Uint64())}
}

// metered is a reader that takes room for each piece before it reads it.
type metered struct {
	io.Reader
	ctx    context.Context
	budget *Budget
	times  int64 // how often what is read will stand in memory
	taken  int64
}

func (m *metered) Read(p []byte) (int, error) {
	p = p[:min(len(p), 64<<10)]
	if !m.budget.wait(m.ctx, int64(len(p))*m.times) {
		return 0, errNoRoom
	}
	n, err := m.Reader.Read(p)
	m.budget.leave(int64(len(p)-n) * m.times)
	m.taken += int64(n) * m.times
	return n, err
}

func (m *metered) release() { m.budget.leave(m.taken) }
