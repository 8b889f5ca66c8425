package intake

import (
	"errors"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

const (
	KernelDevice = "/dev/kmsg"
	kernelFile   = "kernel.json" // of a state folder: how far it was read
	kernelRecord = 8 << 10       // the most that one read gives, in bytes
)

// kernelEndpoint reads what the kernel says. It goes on where it was when the
// agent ended, as long as the machine has not started anew.
type kernelEndpoint struct {
	Common
	agent   *Agent
	file    *os.File
	place   kernelPlace
	saved   time.Time
	batch   record.Batch
	routing route.Routing

	draining sync.Once
	done     chan struct{}
}

// kernelPlace is how far the kernel's records were read.
type kernelPlace struct {
	Boot string `json:"boot"` // which start of the machine the number is of
	Next uint64 `json:"next"` // the first number that was not read
}

func (a *Agent) openKernel() (Endpoint, error) {
	file, err := os.OpenFile(KernelDevice, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	e := &kernelEndpoint{agent: a, file: file, done: make(chan struct{})}
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	e.place.Boot = strings.TrimSpace(string(boot))
	var old kernelPlace
	if a.State.Load(kernelFile, &old) == nil && old.Boot == e.place.Boot {
		e.place = old
	}
	return e, nil
}

func (e *kernelEndpoint) Bound() string { return KernelDevice }

func (e *kernelEndpoint) Run() {
	defer close(e.done)
	buffer := make([]byte, kernelRecord)
	for {
		n, err := e.file.Read(buffer)
		switch {
		case errors.Is(err, unix.EPIPE):
			// Overrun: the next number tells how much is missed.
		case err == nil:
			if !e.passOn(buffer[:n]) {
				return
			}
		default:
			if !errors.Is(err, os.ErrDeadlineExceeded) { // else it is draining
				e.agent.Log.Error("the kernel's records cannot be read any more", "why", err)
			}
			return
		}
	}
}

// passOn passes one record on, and tells whether it was taken.
func (e *kernelEndpoint) passOn(b []byte) bool {
	e.batch.Reset()
	r := e.batch.Next()
	r.Received = record.StampOf(time.Now())
	r.Raw = b
	m, ok := wire.ParseKernel(r, b)
	if ok && m.Sequence < e.place.Next {
		return true // it was read before
	}
	r.Time = r.Received
	if ok {
		r.Time = sinceBoot(m.Micros)
		if e.place.Next > 0 {
			e.Owner().missed.Add(int64(m.Sequence - e.place.Next))
		}
	}
	before := e.place
	if ok {
		e.place.Next = m.Sequence + 1 // also where it fails: it is counted then
	}
	if !e.agent.Pass(&e.batch, &e.routing, e, true) {
		e.place = before
		return false
	}
	if time.Since(e.saved) > time.Second {
		e.save()
	}
	return true
}

// sinceBoot returns the time that is so many microseconds after the machine's start.
func sinceBoot(micros int64) record.Stamp {
	var now unix.Timespec
	unix.ClockGettime(unix.CLOCK_MONOTONIC, &now)
	return record.StampOf(time.Now().Add(time.Duration(micros)*time.Microsecond - time.Duration(now.Nano())))
}

func (e *kernelEndpoint) save() {
	e.saved = time.Now()
	if err := e.agent.State.Save(kernelFile, e.place); err != nil {
		e.agent.Log.Warn("how far the kernel's records are read cannot be written down", "why", err)
	}
}

func (e *kernelEndpoint) Drain(time.Time) {
	e.draining.Do(func() {
		e.file.SetReadDeadline(time.Now())
		<-e.done
		e.save()
		e.Close()
	})
}

func (e *kernelEndpoint) Close() { e.file.Close() }
