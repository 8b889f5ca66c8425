package agent

import (
	"bytes"
	"context"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/disk"
	"oakbarrel/core/format"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
	"oakbarrel/core/route"
)

// How a file outlet gathers what it writes.
const (
	flushSize = 64 << 10               // bytes that are written at once
	flushTime = 100 * time.Millisecond // the longest time that a record waits for more
	heldSize  = 1 << 20                // bytes of lines held before the outlet is full
	retryTime = time.Second            // between tries to write where writing fails
	tidyTime  = time.Minute            // between looks at what is to be kept
)

// fileOutlet writes lines into a rolled file.
type fileOutlet struct {
	path   string
	writer *roll.Writer
	log    *slog.Logger

	wake    chan struct{} // there is something to write, or enough to write at once
	stopped chan struct{} // closed when the agent stops

	gathered time.Time // when lines were last given to the writer; of the writing goroutine

	mu           sync.Mutex
	name         string
	format       *format.Format
	held         []byte // lines not yet given to the writer
	heldRecords  int64
	beingWritten int64 // records given to the writer and not yet written
	account      balance.Outlet
	room         chan struct{} // closed when held has been given to the writer
	lastWrite    time.Time
	trouble      string
	troubleSince time.Time
	leaves       bool
	ended        bool
	deadline     time.Time // once the agent stops: when the writing must be over
}

func (a *Agent) newFileOutlet(s plan.Outlet) *fileOutlet {
	intent := filepath.Join(a.state.dir, intentsDir, intentName(s.File.Path))
	return &fileOutlet{
		path: s.File.Path, name: s.Name, format: s.Format, log: a.log, writer: roll.NewWriter(disk.OS, s.File, intent, time.Now),
		wake: make(chan struct{}, 1), room: make(chan struct{}), stopped: make(chan struct{}),
	}
}

// intentName names the note of a file after its path.
func intentName(path string) string { return plan.Hash([]byte(path))[:24] }

func (o *fileOutlet) key() string { return "file " + o.path }

func (o *fileOutlet) configure(s plan.Outlet) {
	o.mu.Lock()
	o.name, o.format = s.Name, s.Format
	o.mu.Unlock()
	o.writer.Configure(s.File)
}

// take formats the records. An intake that can wait has been held back before.
func (o *fileOutlet) take(b *record.Batch, marks *route.Marks, number int, canWait bool) {
	o.mu.Lock()
	before := len(o.held)
	for i := range b.Records {
		if !marks.Has(i, number) {
			continue
		}
		o.account.In++
		if !canWait && len(o.held) >= heldSize {
			o.account.Shed++
			continue
		}
		o.held = o.format.AppendLine(o.held, &b.Records[i])
		o.heldRecords++
	}
	after := len(o.held)
	o.mu.Unlock()
	if before == 0 && after > 0 || before < flushSize && after >= flushSize {
		o.wakeUp()
	}
}

func (o *fileOutlet) wakeUp() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

func (o *fileOutlet) waitForRoom() <-chan struct{} {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.held) < heldSize {
		return nil
	}
	return o.room
}

func (o *fileOutlet) run() {
	ctx, cancel := context.WithCancel(context.Background())
	var tidying sync.WaitGroup
	tidying.Go(func() { o.tidy(ctx) })
	o.writeAll()
	cancel()
	tidying.Wait()
	o.writer.Close()
}

func (o *fileOutlet) writeAll() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	o.tick()
	var free []byte // swapped with held, so that neither grows anew
	for {
		select {
		case <-o.wake:
			o.gather()
		case <-tick.C:
			o.tick()
			if o.finished() {
				return
			}
			continue
		case <-o.stopped:
		}
		lines := o.swap(free)
		if !o.write(lines) {
			return
		}
		free = lines[:0]
		if o.finished() {
			return
		}
	}
}

// gather waits for more until flushTime after the write before, unless there
// is enough already. So a record that comes alone is written at once.
func (o *fileOutlet) gather() {
	o.mu.Lock()
	enough := len(o.held) >= flushSize || o.leaves
	o.mu.Unlock()
	wait := time.Until(o.gathered.Add(flushTime))
	if !enough && wait > 0 {
		select {
		case <-o.wake:
		case <-o.stopped:
		case <-time.After(wait):
		}
	}
	o.gathered = time.Now()
}

// swap takes what is held.
func (o *fileOutlet) swap(free []byte) (lines []byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	lines, o.held = o.held, free
	o.beingWritten, o.heldRecords = o.heldRecords, 0
	close(o.room)
	o.room = make(chan struct{})
	return lines
}

// write writes lines, again and again until they are in the file. It returns
// false where the agent stops before that.
func (o *fileOutlet) write(lines []byte) bool {
	for len(lines) > 0 {
		n, err := o.writer.Write(lines)
		written := int64(bytes.Count(lines[:n], []byte{'\n'}))
		lines = lines[n:]
		o.wrote(written, err)
		if err == nil {
			continue
		}
		if !o.waitForRetry() {
			return false
		}
	}
	return true
}

// waitForRetry returns false where there is no time for another try.
func (o *fileOutlet) waitForRetry() bool {
	select {
	case <-time.After(retryTime):
	case <-o.stopped:
		o.mu.Lock()
		deadline := o.deadline
		o.mu.Unlock()
		if time.Now().Add(retryTime / 4).After(deadline) {
			o.log.Error("records are lost, because they could not be written before the agent stopped", "path", o.path, "records", o.snapshot().Held)
			return false
		}
		time.Sleep(retryTime / 4)
	}
	return true
}

// wrote counts what was written and tells when trouble begins and ends.
func (o *fileOutlet) wrote(records int64, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.account.Out += records
	o.beingWritten -= records
	if records > 0 {
		o.lastWrite = time.Now()
	}
	o.note(err)
}

// note remembers trouble, and logs it when it begins, changes or ends.
func (o *fileOutlet) note(err error) {
	switch {
	case err == nil && o.trouble != "":
		o.log.Info("the outlet writes again", "outlet", o.name, "path", o.path, "after", time.Since(o.troubleSince).Round(time.Second).String())
		o.trouble = ""
	case err != nil && err.Error() != o.trouble:
		if o.trouble == "" {
			o.troubleSince = time.Now()
		}
		o.trouble = err.Error()
		o.log.Error("the outlet cannot write; it holds what comes and tries again each second", "outlet", o.name, "path", o.path, "why", err)
	}
}

func (o *fileOutlet) tick() {
	err := o.writer.Tick()
	o.mu.Lock()
	o.note(err)
	o.mu.Unlock()
}

// tidy compresses and removes pieces, beside the writing.
func (o *fileOutlet) tidy(ctx context.Context) {
	tick := time.NewTicker(tidyTime)
	defer tick.Stop()
	var trouble string
	var removed removals
	for {
		select {
		case <-ctx.Done():
			removed.tell(o)
			return
		case <-o.writer.Rolled():
		case <-tick.C:
		}
		err := o.writer.Tidy(ctx, removed.add)
		if err != nil && ctx.Err() == nil && err.Error() != trouble {
			o.log.Error("pieces cannot be tidied", "path", o.path, "why", err)
			trouble = err.Error()
		}
		if time.Since(removed.told) >= tidyTime {
			removed.tell(o)
		}
	}
}

// removals is what keep has removed since it was last told. It is told at once,
// and then at most once in tidyTime.
type removals struct {
	pieces      int
	bytes       int64
	first, last time.Time // when they were rolled
	told        time.Time
}

func (r *removals) add(p roll.Piece) {
	if r.pieces == 0 {
		r.first = p.Stamp
	}
	r.pieces, r.bytes, r.last = r.pieces+1, r.bytes+p.Size, p.Stamp
}

func (r *removals) tell(o *fileOutlet) {
	if r.pieces == 0 {
		return
	}
	o.log.Info("pieces are removed, as keep says", "path", o.path, "pieces", r.pieces, "bytes", r.bytes, "rolled_from", r.first.Format(time.RFC3339), "to", r.last.Format(time.RFC3339))
	*r = removals{told: time.Now()}
}

func (o *fileOutlet) leave() {
	o.mu.Lock()
	o.leaves = true
	o.mu.Unlock()
	o.wakeUp()
}

func (o *fileOutlet) stay() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.ended {
		return false
	}
	o.leaves = false
	return true
}

func (o *fileOutlet) stop(deadline time.Time) {
	o.mu.Lock()
	o.leaves, o.deadline = true, deadline
	o.mu.Unlock()
	close(o.stopped)
}

// finished tells whether the outlet is to end, and has nothing left to write.
func (o *fileOutlet) finished() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.ended = o.leaves && len(o.held) == 0
	return o.ended
}

// snapshot returns the account. Between two batches it closes.
func (o *fileOutlet) snapshot() balance.Outlet {
	o.mu.Lock()
	defer o.mu.Unlock()
	account := o.account
	account.Held = o.heldRecords + o.beingWritten
	return account
}
