package intake

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
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
)

// Follow is an endpoint that follows the files of an intake. How far they were
// passed on is kept with each outlet.
type Follow struct {
	Common
	agent      *Agent
	files      *plan.Files
	file       string // what the follower writes down
	follower   *tail.Follower
	containers *containers // nil for files
	routing    route.Routing
	givenUp    chan struct{}

	ctx      context.Context
	end      context.CancelFunc
	draining sync.Once
	done     chan struct{}
}

// openFollow opens the files of an intake. Only one endpoint may follow for an
// intake at a time; another that does is in the way.
func (a *Agent) openFollow(in *plan.Intake) (Endpoint, error) {
	file := filepath.Join(a.State.Dir(), followedDir, in.Name+followedSuffix)
	if other := a.follows[file]; other != nil && !other.IsOver() {
		return nil, errTaken
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o750); err != nil {
		return nil, err
	}
	e := &Follow{agent: a, files: in.Files, file: file, done: make(chan struct{}), givenUp: make(chan struct{})}
	e.ctx, e.end = context.WithCancel(context.Background())
	settings := in.Files.Follow
	settings.Open = min(settings.Open, max(1, mostDescriptors()/16)) // sockets and outlets need theirs
	if in.Files.Engine != "" {
		e.containers = newContainers(in.Files)
		settings.Describe = e.containers.describe
	} else {
		settings.FieldsOf = fieldsOfLayer
	}
	var err error
	e.follower, err = tail.New(settings, disk.OS, file, e, a.Log.With("intake", in.Name), time.Now)
	if err != nil {
		return nil, err
	}
	for _, path := range e.follower.Damage.Files {
		cost := "nothing: what stood in it is known from its twin"
		if e.follower.Damage.Lost {
			cost = "what is known of some files: they may be read again, so that their lines come twice"
		}
		a.State.PutAside(client.Damage{Part: "intake " + in.Name, File: path, Cost: cost})
	}
	if a.follows == nil {
		a.follows = map[string]*Follow{}
	}
	maps.DeleteFunc(a.follows, func(_ string, other *Follow) bool { return other.IsOver() }) // of intakes that are gone
	a.follows[file] = e
	return e, nil
}

func (e *Follow) Bound() string {
	if e.files.Engine != "" {
		return e.files.Engine + ":" + e.files.Root
	}
	return "files:" + strings.Join(e.files.Follow.Paths, ",")
}

func (e *Follow) Run() {
	defer close(e.done)
	if e.containers != nil {
		go e.agent.Guard.Keep(guard.Intake(e.Owner().Name()), func() { e.containers.watch(e.ctx) })
	}
	e.follower.Run(e.ctx)
}

func (e *Follow) Drain(time.Time) {
	e.draining.Do(func() {
		e.end()
		<-e.done
	})
}

// Rereads implements [Endpoint].
func (e *Follow) Rereads() Rereader { return e }

// GivenUp implements [Endpoint].
func (e *Follow) GivenUp() <-chan struct{} { return e.givenUp }

// Tell implements [Endpoint].
func (e *Follow) Tell(s *client.IntakeStatus) {
	if s.Trouble = e.follower.Trouble(); s.Trouble == "" && e.containers != nil {
		s.Trouble = e.containers.trouble()
	}
}

// Abandon implements [Rereader].
func (e *Follow) Abandon() {
	close(e.givenUp)
	e.Drain(time.Time{})
}

// IsOver implements [Rereader].
func (e *Follow) IsOver() bool { return e.ctx.Err() != nil }

func (e *Follow) Close() { e.end() }

// Taken implements [tail.Sink].
func (e *Follow) Taken(source string, begin int64) []int64 { return e.agent.Taken(source, begin) }

// Pass passes on what was read.
func (e *Follow) Pass(out *lines.Out) bool {
	guard.Boundary("follow")
	if !e.agent.pass(&out.Batch, &e.routing, e, true) {
		return false
	}
	if e.containers != nil {
		e.containers.count(&out.Batch)
	}
	return true
}

// Forget implements [tail.Sink].
func (e *Follow) Forget(sources []string) { e.agent.Forget(sources) }

// Positions implements [Rereader].
func (e *Follow) Positions() []record.Mark { return e.follower.Positions() }

// Files tells how far each file is followed.
func (e *Follow) Files() (files []client.FollowedFile) {
	for _, f := range e.follower.Files() {
		files = append(files, followedFile(e.Owner().Name(), f))
	}
	return files
}

// Containers tells how the containers are that the endpoint reads, those that need
// attention first.
func (e *Follow) Containers() []client.ContainerStatus {
	if e.containers == nil {
		return nil
	}
	return e.containers.status(e.Owner().Name())
}

// IsUnread tells whether a file has still to be read.
func (e *Follow) IsUnread(path string) bool { return e.follower.Unread(path) }

// SetBack has a file read again from an offset. The error is [tail.ErrNotFollowed]
// where it is another's.
func (e *Follow) SetBack(path string, offset int64) error { return e.follower.SetBack(path, offset) }

func followedFile(intake string, f tail.File) client.FollowedFile {
	return client.FollowedFile{Intake: intake, File: f, BehindSeconds: f.Late.Seconds(), CutSeconds: f.Window.Seconds()}
}

// Followed reads from the state folder of an agent that does not run how far its
// files are followed.
func Followed(stateDir string) ([]client.FollowedFile, error) {
	files := []client.FollowedFile{}
	found, err := filepath.Glob(filepath.Join(stateDir, followedDir, "*"+followedSuffix))
	for _, file := range found {
		saved, err := tail.ReadFiles(file, time.Now())
		if err != nil {
			return nil, err
		}
		for _, f := range saved {
			files = append(files, followedFile(strings.TrimSuffix(filepath.Base(file), followedSuffix), f))
		}
	}
	return files, err
}
