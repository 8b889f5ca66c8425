package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/agent/state"
	"oakbarrel/core/lines"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

const (
	pipesDir  = "pipes"                // of a state folder: the process that holds each pipe open
	pipeSize  = 1 << 20                // bytes that a pipe holds, as far as the system allows
	pipePause = 200 * time.Millisecond // between looks at a pipe that nobody writes to
)

// pipeEndpoint reads a named pipe that stands in the place of a log file. A
// process of its own holds the pipe open, so that neither a new start of the
// agent nor one of the program ends the other.
type pipeEndpoint struct {
	Common
	agent   *Agent
	path    string
	file    *os.File
	writers atomic.Bool // somebody has it open for writing
	maker   *lines.Maker
	out     lines.Out
	routing route.Routing
	wait    time.Duration

	draining sync.Once
	stopped  atomic.Bool
	done     chan struct{}
}

// openPipe makes a pipe where it is missing, and has it held.
func (a *Agent) openPipe(path string, in *plan.Intake) (Endpoint, error) {
	p := in.Pipes
	if err := makePipe(path, p); err != nil {
		return nil, err
	}
	holder := filepath.Join(a.State.Dir(), pipesDir, state.NameFor(path))
	if err := holdPipe(path, holder); err != nil {
		return nil, fmt.Errorf("the process that holds the pipe cannot be started: %w", err)
	}
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	unix.FcntlInt(uintptr(fd), unix.F_SETPIPE_SZ, pipeSize) // less is allowed too
	file := os.NewFile(uintptr(fd), path)
	settings := p.Lines
	settings.Fields = lines.NewFields("file@32473", record.Label{Name: "path", Value: path}).And(settings.Fields)
	return &pipeEndpoint{agent: a, path: path, file: file, maker: lines.NewMaker("", &settings), wait: p.Wait, done: make(chan struct{})}, nil
}

// makePipe makes a named pipe with the mode and the owner of the plan.
func makePipe(path string, p *plan.Pipes) error {
	st, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := unix.Mkfifo(path, 0o600); err != nil {
			return &fs.PathError{Op: "make the pipe", Path: path, Err: err}
		}
	case err != nil:
		return err
	case st.Mode().Type() != fs.ModeNamedPipe:
		return &fs.PathError{Op: "make the pipe", Path: path, Err: errors.New("something else stands there; move it away, and start the program that writes it anew")}
	}
	user, group := -1, -1
	if p.Owner.SetUser {
		user = p.Owner.User
	}
	if p.Owner.SetGroup {
		group = p.Owner.Group
	}
	if user >= 0 || group >= 0 {
		if err := os.Lchown(path, user, group); err != nil {
			return err
		}
	}
	return os.Chmod(path, p.Mode)
}

// holdPipe starts the process that holds a pipe, unless it runs.
func holdPipe(path, holder string) error {
	if err := os.MkdirAll(filepath.Dir(holder), 0o750); err != nil {
		return err
	}
	if isHeld(holder) {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	c := exec.Command(self, "hold-pipe", path, holder)
	c.Dir, c.SysProcAttr = "/", &syscall.SysProcAttr{Setsid: true} // it outlives the agent
	ready, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	go c.Wait()
	if line, _ := io.ReadAll(io.LimitReader(ready, 6)); string(line) != "ready\n" {
		return errors.New("it ended at once")
	}
	return nil
}

// isHeld tells whether a process has the lock of a file.
func isHeld(holder string) bool {
	f, err := os.Open(holder)
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// HoldPipe keeps the read end of a pipe open until the pipe is removed, so that
// its writers never find it without a reader. It reads nothing. The file holder
// tells who does it; ready is called once it is held.
func HoldPipe(path, holder string, ready func()) error {
	lock, err := os.OpenFile(holder, os.O_RDWR|os.O_CREATE, 0o640)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return fmt.Errorf("another process holds %s", path)
	}
	lock.Truncate(0)
	fmt.Fprintln(lock, os.Getpid())
	pipe, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer pipe.Close()
	mine, err := pipe.Stat()
	if err != nil {
		return err
	}
	ready()
	for {
		time.Sleep(time.Second)
		if st, err := os.Lstat(path); err != nil || !os.SameFile(st, mine) {
			return nil
		}
	}
}

func (e *pipeEndpoint) Bound() string {
	if !e.writers.Load() {
		return "pipe:" + e.path + " (nobody writes)"
	}
	return "pipe:" + e.path
}

func (e *pipeEndpoint) Run() {
	defer close(e.done)
	defer e.file.Close()
	buffer, held := make([]byte, 256<<10), 0
	last := time.Now()
	for {
		e.file.SetReadDeadline(time.Now().Add(pipePause))
		n, err := e.file.Read(buffer[held:])
		now := time.Now()
		b := e.takeLines(buffer[:held+n], len(buffer), now)
		if n > 0 {
			last = now
		} else if now.Sub(last) > e.wait && len(b) > 0 || e.stopped.Load() {
			e.add(b, now)
			b = nil
		}
		if _, waits := e.maker.Waiting(); waits && (now.Sub(last) > time.Second || e.stopped.Load()) {
			e.maker.Flush(&e.out)
		}
		if !e.pass() {
			return
		}
		held = copy(buffer, b)
		e.writers.Store(n > 0 || errors.Is(err, os.ErrDeadlineExceeded))
		switch {
		case n > 0:
		case e.stopped.Load():
			return
		case err == io.EOF: // nobody has it open
			time.Sleep(pipePause)
		case err != nil && !errors.Is(err, os.ErrDeadlineExceeded):
			e.agent.Log.Error("a pipe cannot be read any more", "path", e.path, "why", err)
			return
		}
	}
}

// takeLines takes the whole lines of b and returns what is left.
func (e *pipeEndpoint) takeLines(b []byte, most int, now time.Time) []byte {
	for {
		end := bytes.IndexByte(b, '\n')
		switch {
		case end >= 0:
			e.add(bytes.TrimSuffix(b[:end], []byte{'\r'}), now)
			b = b[end+1:]
		case len(b) == most: // a line that is too long goes in pieces
			e.add(b, now)
			return nil
		default:
			return b
		}
	}
}

func (e *pipeEndpoint) add(text []byte, now time.Time) {
	e.maker.Add(&e.out, &lines.Line{Text: text, Received: record.StampOf(now)})
}

func (e *pipeEndpoint) pass() bool {
	if len(e.out.Batch.Records) == 0 {
		return true
	}
	taken := e.agent.pass(&e.out.Batch, &e.routing, e, true)
	e.out.Reset()
	return taken
}

// drain reads what stands in the pipe. The pipe is held on: its program goes on.
func (e *pipeEndpoint) Drain(time.Time) {
	e.draining.Do(func() {
		e.stopped.Store(true)
		e.file.SetReadDeadline(time.Now())
		<-e.done
	})
}

func (e *pipeEndpoint) Close() { e.file.Close() }
