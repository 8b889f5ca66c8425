// Package tail follows files that programs write. It finds them by patterns, knows
// them again when they are renamed, copied, cut or compressed, and reads each line
// once, from where it was left when the process ended.
//
// A run of bytes that is followed is a source: what one file holds, wherever it is
// moved to. A file that is cut begins another source. What is known of sources, and
// how far each is read, stands in a memo beside the agent's state; how far the lines
// are taken stands with the outlets, which the [Sink] asks.
//
// A [Follower] belongs to one intake, and all of its work is done by the goroutine
// that [Follower.Run] is; Files, Positions, Unread, SetBack and Trouble may be called
// from others. It reads files and writes one of its own, through package disk, and
// leaves to package lines what becomes of the lines.
//
// Begin with follower.go, the loop, and look.go: a look finds the files that are
// there, judge.go decides which source each of them is, seek.go looks for a source
// whose file is not where it was, and read.go reads.
package tail

import (
	"cmp"
	"context"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
	"oakbarrel/core/memo"
	"oakbarrel/core/paths"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// Settings says which files are followed, and how their lines are read.
type Settings struct {
	Paths, Exclude []string      // absolute patterns, see Match
	FromEnd        bool          // files that are there at the very first look are followed from their end
	Age            time.Duration // files not written to for longer are not begun, 0 for no bound
	Poll           bool          // changes are looked for each second, not told by the kernel
	LastWait       time.Duration // after which a last line without an end is taken
	Open           int           // how many files stay open at most
	Wrapping       Wrapping
	Lines          lines.Settings
	// Describe tells what the file at a path is, where that is not the same for
	// all: how its lines are read, or why it is not. It may be nil.
	Describe func(path string) (s *lines.Settings, why string)
	// FieldsOf returns fields that each record of the file at a path gets beside those of
	// Lines. It may be nil, and is not asked where there is Describe.
	FieldsOf func(path string) lines.Fields
}

// Wrapping is the form in which a container engine writes what it takes.
type Wrapping string

// The forms.
const (
	Bare   Wrapping = ""
	Docker Wrapping = "docker" // one JSON object a line
	CRI    Wrapping = "cri"    // time, stream, tags and text
)

// Sink is where a Follower's records go.
type Sink interface {
	// Taken tells how far each outlet that keeps records has taken a source;
	// begin stands for those that have nothing of it yet.
	Taken(source string, begin int64) []int64
	// Pass takes the records of out and how far sources are read with them. It
	// waits where there is no room, and returns false where the process ends.
	Pass(out *lines.Out) bool
	// Forget lets go of sources that will never be read again.
	Forget(sources []string)
}

// Times of a Follower.
const (
	gatherTime  = 20 * time.Millisecond // for which changes are gathered
	lookTime    = 10 * time.Second      // between two looks at all files, where the kernel tells of changes
	pollTime    = time.Second           // where it does not
	drainTime   = 2 * time.Second       // for what stands in the files when the process ends
	saveTime    = 5 * time.Second       // between two times that positions are written down
	lingerTime  = time.Minute           // for which a file that was removed or taken away stays open
	forgetTime  = 2 * time.Minute       // after which a source is forgotten that no file has and that all outlets have
	longestTime = 7 * 24 * time.Hour    // after which it is forgotten whatever holds it
)

// Follower follows files. Run is called once; Files, Positions and the like
// may be called by any goroutine.
type Follower struct {
	settings Settings
	disk     disk.Disk
	file     string // where sources are written down
	sink     Sink
	log      *slog.Logger
	now      func() time.Time
	boot     string

	wake      chan struct{} // there is something to do
	watch     *watcher
	out       lines.Out
	unwrapper wire.Unwrapper
	received  record.Stamp // of the lines that are being taken
	buffer    []byte
	sources   []*source
	number    int // of the next source
	byInode   map[inode]*source
	byPath    map[string]*source // by the path without links
	asides    map[inode]*aside
	awaited   map[string]bool // the paths of files of which it shows later what they are
	looking   *looking        // nil outside of a look
	first     bool            // nothing was ever written down: this is the first look
	looked    time.Time       // when all files were last looked at
	lookAt    time.Time       // when they are to be looked at next, zero for at the usual time
	lookCost  time.Duration
	most      int  // see mostFiles
	over      int  // how many files the last look has passed by for that
	opened    int  // files since there were last no more open than allowed
	left      bool // the last look has left files to the next
	saved     time.Time
	tried     time.Time // when it was last tried to save
	unsaved   string    // why that failed, "" where it did not
	resumed   time.Time // when it could read on, that could not before
	bounded   time.Time // when it was last looked how much waits
	altered   bool      // what is known of a source, since saved
	moved     bool      // how far one is read, since saved
	old       bool      // what was read was written by the version before
	memo      *memo.File
	urgent    bool // a source is new, and must be written down before it is read

	// Damage is what was damaged when the follower was made.
	Damage Damage

	mu        sync.Mutex
	positions map[string]int64     // of streams
	caughtUp  map[string]time.Time // when a source was last read to its end
	standing  map[inode]string     // which source a file is, "" for none
	files     []File
	lack      string // why not all files are taken that are to be followed
	orders    []order
}

type inode struct{ device, inode uint64 }

// New returns a follower that writes its sources down in a file; it reads what
// is there. Nothing is followed before Run.
func New(s Settings, d disk.Disk, file string, sink Sink, log *slog.Logger, now func() time.Time) (*Follower, error) {
	f := newFollower(s, sink, log, now)
	f.disk, f.file, f.boot = d, file, disk.BootID()
	if err := f.load(); err != nil {
		return nil, err
	}
	return f, nil
}

// newFollower returns a follower that knows nothing yet.
func newFollower(s Settings, sink Sink, log *slog.Logger, now func() time.Time) *Follower {
	return &Follower{settings: s, sink: sink, log: log, now: now, buffer: make([]byte, bufferSize), wake: make(chan struct{}, 1), most: mostFiles,
		byInode: map[inode]*source{}, byPath: map[string]*source{}, asides: map[inode]*aside{}, awaited: map[string]bool{},
		positions: map[string]int64{}, caughtUp: map[string]time.Time{}, standing: map[inode]string{}}
}

// Run follows until ctx ends, and then reads what stands in the files already,
// for two seconds at most.
func (f *Follower) Run(ctx context.Context) {
	f.watch = newWatcher(f.settings.Poll, f.wake)
	defer f.watch.close()
	defer f.closeAll()
	for _, s := range f.sources {
		f.beginStreams(s)
	}
	going := true
	for going && ctx.Err() == nil {
		if going = f.step(); going {
			f.await(ctx)
		}
	}
	if going {
		f.look()
		for end := f.now().Add(drainTime); f.readDirty() && f.anyDirty() && f.now().Before(end); {
		}
	}
	if err := f.saveNotes(true); err != nil {
		f.log.Error("how far files are followed cannot be written down", "why", err)
	}
	f.memo.Close()
}

// step does what is to be done now. It returns false where the process ends.
func (f *Follower) step() bool {
	f.obey()
	if f.lookIsDue() {
		f.look()
	}
	if !f.readDirty() {
		return false
	}
	f.saveAtTimes()
	return true
}

// await waits for a change, or for the time of something that is due.
func (f *Follower) await(ctx context.Context) {
	if !f.anyDirty() {
		timer := time.NewTimer(max(0, f.nextDue().Sub(f.now())))
		defer timer.Stop()
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-f.wake:
			select { // more may come
			case <-time.After(gatherTime):
			case <-ctx.Done():
			}
		}
	}
	f.hear(f.watch.drain())
}

// hear notes what the kernel has told.
func (f *Follower) hear(c changes) {
	if c.again {
		f.lookBy(f.looked.Add(10 * f.lookCost)) // so that looking takes a tenth of the time at most
	}
	for path := range c.written {
		if s := f.byPath[path]; s != nil {
			s.dirty = true
		} else if f.awaited[path] {
			f.lookBy(f.looked.Add(10 * f.lookCost))
		} else if f.matches(path) {
			f.lookBy(f.looked.Add(pollTime)) // it may be another name of a file, or one that is not read
		}
	}
}

func (f *Follower) anyDirty() bool {
	return !(f.urgent && f.unsaved != "") && slices.ContainsFunc(f.sources, func(s *source) bool { return s.dirty && f.readable(s) })
}

// readable tells whether a source may be read now.
func (f *Follower) readable(s *source) bool {
	return s.follows() && !f.blocked(s) && (s.retry.IsZero() || !f.now().Before(s.retry))
}

// follows tells whether there is a file to read.
func (s *source) follows() bool { return !s.Done && s.known && s.reason == "" }

// blocked tells whether another has to be read to its end before.
func (f *Follower) blocked(s *source) bool {
	w := s.waits
	return w != nil && (w.dirty && w.follows() && w.retry.IsZero() || f.isMissing(w))
}

// isMissing tells whether the log of a container that is not read to its end has
// not been found, for a moment yet: most likely it is just being compressed.
func (f *Follower) isMissing(s *source) bool {
	return f.settings.Wrapping != Bare && !s.Done && !s.known && s.file == nil && !s.missed.IsZero() && f.now().Sub(s.missed) < settleTime
}

// nextDue returns when something is to be done though nothing changes.
func (f *Follower) nextDue() time.Time {
	next := f.looked.Add(f.lookTime())
	if !f.lookAt.IsZero() {
		next = earlier(next, f.lookAt)
	}
	for _, s := range f.sources {
		if s.follows() && !s.retry.IsZero() {
			next = earlier(next, s.retry)
		}
		if s.follows() && s.partial > 0 {
			next = earlier(next, s.since.Add(f.settings.LastWait))
		}
		if s.waits != nil && f.isMissing(s.waits) {
			next = earlier(next, s.waits.missed.Add(settleTime))
		}
		for i := range s.streams {
			if due, waits := f.streamDue(s, &s.streams[i]); waits && (s.follows() || !f.goesOn(s)) {
				next = earlier(next, due)
			}
		}
	}
	if due, is := f.saveIsDue(); is {
		next = earlier(next, due)
	}
	return next
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func (f *Follower) joinWait(s *source) time.Duration {
	if s.settings != nil && s.settings.Join.Wait > 0 {
		return s.settings.Join.Wait
	}
	return time.Second
}

func (f *Follower) lookTime() time.Duration {
	if f.settings.Poll || f.watch != nil && f.watch.polls {
		return pollTime
	}
	for _, s := range f.sources { // what nobody tells of is looked at more often
		if s.known && !s.Done && s.file != nil && f.byPath[s.real] != s {
			return pollTime
		}
	}
	return lookTime
}

func (f *Follower) lookIsDue() bool {
	now := f.now()
	return !now.Before(f.looked.Add(f.lookTime())) || !f.lookAt.IsZero() && !now.Before(f.lookAt)
}

// readDirty reads the sources in which something changed, a piece of each in
// turn. It returns false where the process ends.
func (f *Follower) readDirty() bool {
	if !f.isKnown() {
		f.resumed = f.now()
		return true
	}
	for _, s := range slices.Clone(f.sources) {
		switch {
		case f.readable(s) && (s.dirty || !s.retry.IsZero() || f.isDue(s)):
			if !f.readTurn(s) {
				return false
			}
			if f.opened > f.settings.Open {
				f.limitOpen()
			}
		case !s.follows() && f.eventIsDue(s) && !f.goesOn(s): // nothing more will come to what it has begun
			if !f.flushDue(s) {
				return false
			}
		}
	}
	f.limitOpen()
	return f.boundWaiting()
}

// limitOpen closes the files that were not read for the longest time, so that
// no more than allowed are open, nor ever twice as many.
func (f *Follower) limitOpen() {
	f.opened = 0
	var open []*source
	for _, s := range f.sources {
		if s.file != nil {
			open = append(open, s)
		}
	}
	if len(open) <= f.settings.Open {
		return
	}
	slices.SortFunc(open, func(a, b *source) int { return a.used.Compare(b.used) })
	for _, s := range open[:len(open)-f.settings.Open] {
		if f.byPath[s.real] == s { // else it cannot be opened again
			s.close()
		}
	}
}

func (f *Follower) closeAll() {
	for _, s := range f.sources {
		s.close()
	}
}

// matches tells whether a pattern finds a path.
func (f *Follower) matches(path string) bool {
	return slices.ContainsFunc(f.settings.Paths, func(p string) bool { return paths.Match(p, path) })
}

// excluded tells whether a pattern excludes a path.
func (f *Follower) excluded(path string) bool {
	return slices.ContainsFunc(f.settings.Exclude, func(p string) bool {
		if !strings.Contains(p, paths.Separator) { // the name alone
			return paths.Match(p, filepath.Base(path))
		}
		return paths.Match(p, path)
	})
}

// Positions returns how far each stream of each source was passed on.
func (f *Follower) Positions() (marks []record.Mark) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for source, offset := range f.positions {
		marks = append(marks, record.Mark{Source: source, Offset: offset})
	}
	return marks
}

// sortSources puts what was written before in front.
func (f *Follower) sortSources() {
	slices.SortStableFunc(f.sources, func(a, b *source) int {
		return cmp.Or(a.Written.Compare(b.Written), cmp.Compare(b.age, a.age), cmp.Compare(a.number, b.number))
	})
}
