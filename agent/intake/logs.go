package intake

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// logReading is the part that endpoints share which read a log that the system keeps.
type logReading struct {
	Common
	agent    *Agent
	name     string // of the intake
	givenUp  chan struct{}
	ctx      context.Context
	end      context.CancelFunc
	draining sync.Once
	done     chan struct{} // closed when Run has ended
}

// beginLog fills in the part of an endpoint that is to read a log for an intake, and reads into place
// what was written down in a file of the state folder. Only one endpoint may read for an intake at
// a time; another that does is in the way.
func beginLog[P any](a *Agent, e Rereader, of *logReading, name, log, file string, place *P) error {
	if other := a.logs[name]; other != nil && !other.IsOver() {
		return errTaken
	}
	of.agent, of.name, of.done, of.givenUp = a, name, make(chan struct{}), make(chan struct{})
	of.ctx, of.end = context.WithCancel(context.Background())
	if err := os.MkdirAll(filepath.Join(a.State.Dir(), followedDir), 0o750); err != nil {
		return err
	}
	if err := a.State.Load(file, place); err != nil && !errors.Is(err, fs.ErrNotExist) {
		a.Log.Warn("how far "+log+" was read is not known; it is read again from the beginning, and what outlets have already is passed over", "intake", name, "why", err)
		var none P
		*place = none
	}
	if a.logs == nil {
		a.logs = map[string]Rereader{}
	}
	a.logs[name] = e
	return nil
}

// drain ends the reading, and then does what is left to do, once.
func (l *logReading) drain(left func()) {
	l.draining.Do(func() {
		l.end()
		<-l.done
		left()
	})
}

// Close implements [Endpoint].
func (l *logReading) Close() { l.end() }

// GivenUp implements [Endpoint].
func (l *logReading) GivenUp() <-chan struct{} { return l.givenUp }

// IsOver implements [Rereader].
func (l *logReading) IsOver() bool { return l.ctx.Err() != nil }
