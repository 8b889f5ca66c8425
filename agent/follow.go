package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/tail"
)

const (
	followedDir    = "followed" // of a state folder: how far files are followed, a memo for each intake
	followedSuffix = ".memo"
	outletsFile    = "outlets.json" // the outlets that were in force last
)

// followEndpoint follows the files of an intake. How far they were passed on is
// kept with each outlet.
type followEndpoint struct {
	owned
	agent      *Agent
	files      *plan.Files
	file       string // what the follower writes down
	follower   *tail.Follower
	containers *containers // nil for files
	host       []byte
	marks      route.Marks

	ctx      context.Context
	end      context.CancelFunc
	draining sync.Once
	done     chan struct{}
}

// openFollow opens the files of an intake. Only one endpoint may follow for an
// intake at a time; another that does is in the way.
func (a *Agent) openFollow(in *plan.Intake) (endpoint, error) {
	file := filepath.Join(a.state.dir, followedDir, in.Name+followedSuffix)
	for _, e := range a.endpoints {
		if other, ok := e.(*followEndpoint); ok && other.file == file && !other.over() {
			return nil, unix.EADDRINUSE
		}
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o750); err != nil {
		return nil, err
	}
	e := &followEndpoint{agent: a, files: in.Files, file: file, done: make(chan struct{})}
	e.quit = make(chan struct{})
	e.ctx, e.end = context.WithCancel(context.Background())
	settings := in.Files.Follow
	settings.Open = min(settings.Open, max(1, mostDescriptors()/16)) // sockets and outlets need theirs
	if in.Files.Engine != "" {
		e.containers = newContainers(in.Files)
		settings.Describe = e.containers.describe
	}
	var err error
	e.follower, err = tail.New(settings, disk.OS, file, e, a.log.With("intake", in.Name), time.Now)
	if err != nil {
		return nil, err
	}
	for _, path := range e.follower.Damage.Files {
		cost := "nothing: what stood in it is known from its twin"
		if e.follower.Damage.Lost {
			cost = "what is known of some files: they may be read again, so that their lines come twice"
		}
		a.state.putAside(Damage{Part: "intake " + in.Name, File: path, Cost: cost})
	}
	return e, nil
}

func (e *followEndpoint) bound() string {
	if e.files.Engine != "" {
		return e.files.Engine + ":" + e.files.Root
	}
	return "files:" + strings.Join(e.files.Follow.Paths, ",")
}

func (e *followEndpoint) run() {
	defer close(e.done)
	e.host = []byte(e.agent.hostName())
	if e.containers != nil {
		go e.agent.keep(intakePart(e.owner().settings.Name), func() { e.containers.watch(e.ctx) })
	}
	e.follower.Run(e.ctx)
}

func (e *followEndpoint) drain(time.Time) {
	e.draining.Do(func() {
		e.end()
		<-e.done
	})
}

// abandon ends the reading where it is: what was read and not taken is read again
// by the next endpoint.
func (e *followEndpoint) abandon() {
	close(e.quit)
	e.drain(time.Time{})
}

func (e *followEndpoint) over() bool { return e.ctx.Err() != nil }

func (e *followEndpoint) close() { e.end() }

// Taken tells how far each outlet in force has taken a source.
func (e *followEndpoint) Taken(source string, begin int64) (offsets []int64) {
	e.agent.mu.RLock()
	defer e.agent.mu.RUnlock()
	for _, o := range e.agent.outlets {
		offset, known := o.taken(source)
		if !known {
			offset = begin
		}
		offsets = append(offsets, offset)
	}
	return offsets
}

// Pass passes on what was read.
func (e *followEndpoint) Pass(out *lines.Out) bool {
	boundary("follow")
	for i := range out.Batch.Records {
		if r := &out.Batch.Records[i]; r.Host == nil {
			r.Host = e.host
		}
	}
	if !e.agent.pass(&out.Batch, &e.marks, e, true) {
		return false
	}
	if e.containers != nil {
		e.containers.count(&out.Batch)
	}
	return true
}

// Forget has the outlets let go of sources.
func (e *followEndpoint) Forget(sources []string) {
	e.agent.mu.RLock()
	defer e.agent.mu.RUnlock()
	for _, o := range e.agent.outlets {
		o.forget(sources)
	}
}

// beginOutlets tells outlets that are new how far the sources are read: what
// came before is not for them. It is called between two batches.
func (a *Agent) beginOutlets(fresh []outlet, endpoints map[endpointKey]endpoint) {
	var marks []record.Mark
	for _, e := range endpoints {
		if f, ok := e.(*followEndpoint); ok {
			marks = append(marks, f.follower.Positions()...)
		}
	}
	if len(marks) == 0 {
		return
	}
	for _, o := range fresh {
		if err := o.begin(marks); err != nil {
			a.log.Error("how far files are followed cannot be written down", "outlet", o.key(), "why", err)
		}
	}
}

// strangers returns the outlets of next that were not in force before: at the
// start, those that were not when the agent ended.
func (a *Agent) strangers(next []outlet) (fresh []outlet) {
	var known []string
	if a.plan == nil {
		if errors.Is(a.state.load(outletsFile, &known), errDamaged) {
			return nil // taken for new, they would pass over what they have still to get
		}
	}
	for _, o := range a.outlets {
		known = append(known, o.key())
	}
	return slices.DeleteFunc(slices.Clone(next), func(o outlet) bool { return slices.Contains(known, o.key()) })
}

// saveOutlets writes down which outlets are in force.
func (a *Agent) saveOutlets() {
	a.mu.RLock()
	keys := []string{}
	for _, o := range a.outlets {
		keys = append(keys, o.key())
	}
	a.mu.RUnlock()
	if err := a.state.save(outletsFile, keys); err != nil {
		a.log.Warn("which outlets are in force cannot be written down", "why", err)
	}
}

// FollowedFile tells how far a file is followed.
type FollowedFile struct {
	Intake string `json:"intake"`
	tail.File
	BehindSeconds float64 `json:"behind_seconds"` // how long something stands there that is not read
	CutSeconds    float64 `json:"cut_seconds"`    // before a cut: the longest time in which lines may be lost
}

func followedFile(intake string, f tail.File) FollowedFile {
	return FollowedFile{intake, f, f.Late.Seconds(), f.Window.Seconds()}
}

// followed tells how far the files of all intakes are followed.
func (a *Agent) followed() []FollowedFile {
	files := []FollowedFile{}
	for _, e := range a.following() {
		for _, f := range e.follower.Files() {
			files = append(files, followedFile(e.owner().settings.Name, f))
		}
	}
	return files
}

// mostFollowed bounds the list of files in a status.
const mostFollowed = 100

// worst returns the files that need attention first.
func worst(files []FollowedFile) []FollowedFile {
	slices.SortStableFunc(files, func(a, b FollowedFile) int {
		return cmp.Or(cmp.Compare(b.Behind, a.Behind), cmp.Compare(b.Why, a.Why), cmp.Compare(a.Path, b.Path))
	})
	return files[:min(len(files), mostFollowed)]
}

// following returns the endpoints that follow files, in the order of their intakes.
func (a *Agent) following() (all []*followEndpoint) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	for _, in := range a.intakes {
		for _, key := range keysOf(in.settings) {
			if e, ok := a.endpoints[key].(*followEndpoint); ok && e.owner() == in {
				all = append(all, e)
			}
		}
	}
	return all
}

// unread tells whether an intake has still to read a file.
func (a *Agent) unread(path string) bool {
	return slices.ContainsFunc(a.following(), func(e *followEndpoint) bool { return e.follower.Unread(path) })
}

// setBack has a file read again from an offset, by each intake that follows it.
func (a *Agent) setBack(path string, offset int64) error {
	found := error(&Refused{Why: fmt.Sprintf("%s is not followed", path)})
	for _, e := range a.following() {
		switch err := e.follower.SetBack(path, offset); err {
		case nil:
			found = nil
		case tail.ErrNotFollowed:
		default:
			return &Refused{Why: err.Error()}
		}
	}
	return found
}

// Followed tells how far the files of an agent are followed: a running one is
// asked, else what it has written down is read.
func Followed(ctx context.Context, stateDir string) (files []FollowedFile, running bool, err error) {
	files, err = AskFollowed(ctx, stateDir)
	if !errors.Is(err, ErrNoAgent) {
		return files, true, err
	}
	if _, err := os.Stat(stateDir); err != nil {
		return nil, false, err
	}
	files = []FollowedFile{}
	found, err := filepath.Glob(filepath.Join(stateDir, followedDir, "*"+followedSuffix))
	for _, file := range found {
		saved, err := tail.ReadFiles(file, time.Now())
		if err != nil {
			return nil, false, err
		}
		for _, f := range saved {
			files = append(files, followedFile(strings.TrimSuffix(filepath.Base(file), followedSuffix), f))
		}
	}
	return files, false, err
}

// Patterns names the patterns of the files that the agent with a state folder
// follows, or followed last.
func Patterns(stateDir string) string {
	p, _, err := plan.Load(PlanCopy(stateDir))
	if err != nil || p == nil {
		return "not known"
	}
	var all []string
	for _, in := range p.Intakes {
		if in.Files != nil {
			all = append(all, in.Files.Follow.Paths...)
		}
	}
	if len(all) == 0 {
		return "none"
	}
	return strings.Join(all, ", ")
}
