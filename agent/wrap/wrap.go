// Package wrap runs a program and sends what it writes to stdout and stderr as
// records, without the program knowing.
//
// It uses the network and processes, and of the project the core only. Its
// central type is [Options].
package wrap

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"sync"
	"time"

	"oakbarrel/core/lines"
	"oakbarrel/core/record"
)

// Options says what to run, and what becomes of its output.
type Options struct {
	Command []string
	Lines   lines.Settings
	// Open opens the way to an agent; it is called again after each failure.
	Open func(ctx context.Context) (Sender, error)
	// Out and Err get a copy of the output, nil for none.
	Out, Err io.Writer
	// Hold is how many bytes of records wait at most while no agent takes them.
	Hold int
	// Linger is how long is waited for an agent when the program has ended.
	Linger time.Duration
}

// Sender sends encoded records, one at a time.
type Sender interface {
	Send(message []byte) error
	Close() error
}

// Result tells how the program ended.
type Result struct {
	Code    int   // as a shell tells it: 128 and the signal's number for one that a signal ended
	Sent    int64 // records
	Dropped int64 // records, because nobody took them
	Why     error // they were not taken
}

// Run runs the program to its end. An error says why it could not be started, which is a
// record too.
func Run(ctx context.Context, o Options) (Result, error) {
	c := exec.Command(o.Command[0], o.Command[1:]...)
	c.Stdin = os.Stdin
	var readers [2]*os.File
	for i, to := range []*io.Writer{&c.Stdout, &c.Stderr} {
		r, w, err := os.Pipe()
		if err != nil {
			return Result{}, err
		}
		defer w.Close()
		readers[i], *to = r, w
	}
	came := make(chan os.Signal, 16)
	signal.Notify(came, signals...)
	defer signal.Stop(came)
	q := newQueue(o.Hold)
	var reading, sending sync.WaitGroup
	finish := func() Result {
		q.finish(o.Linger)
		sending.Wait()
		return Result{Sent: q.sent, Dropped: q.dropped, Why: q.why}
	}
	sending.Go(func() { q.send(ctx, o.Open) })
	if err := c.Start(); err != nil {
		now := record.StampOf(time.Now())
		q.add(&record.Record{Time: now, Priority: record.MakePriority(o.Lines.Default.Facility(), record.Error), App: o.Lines.App, Host: o.Lines.Host, Text: fmt.Appendf(nil, "the program cannot be started: %v", err)})
		return finish(), err
	}
	for _, w := range []io.Writer{c.Stdout, c.Stderr} {
		w.(*os.File).Close() // else the end of the output would not be seen
	}
	for i, stream := range []record.Stream{record.Stdout, record.Stderr} {
		s := &reader{file: readers[i], stream: stream, maker: lines.NewMaker("", &o.Lines), queue: q, procID: strconv.AppendInt(nil, int64(c.Process.Pid), 10), copy: []io.Writer{o.Out, o.Err}[i]}
		reading.Go(s.read)
	}
	ended := make(chan struct{})
	go func() {
		for {
			select {
			case s := <-came:
				c.Process.Signal(s)
			case <-ended:
				return
			}
		}
	}()
	err := c.Wait()
	close(ended)
	rest := make(chan struct{})
	go func() {
		reading.Wait()
		close(rest)
	}()
	select {
	case <-rest:
	case <-time.After(time.Second): // a child of the program has the pipe still
		for _, r := range readers {
			r.SetReadDeadline(time.Now())
		}
		<-rest
	}
	result := finish()
	result.Code = codeOf(err)
	return result, nil
}

// reader makes records of one stream.
type reader struct {
	file   *os.File
	stream record.Stream
	maker  *lines.Maker
	out    lines.Out
	queue  *queue
	procID []byte
	copy   io.Writer // nil for none
}

// joinTime is how long an event waits for its next line.
const joinTime = time.Second

func (r *reader) read() {
	defer r.file.Close()
	buffer, held := make([]byte, 256<<10), 0
	for {
		if _, waits := r.maker.Waiting(); waits {
			r.file.SetReadDeadline(time.Now().Add(joinTime))
		}
		n, err := r.file.Read(buffer[held:])
		if r.copy != nil && n > 0 {
			r.copy.Write(buffer[held : held+n])
		}
		b := buffer[:held+n]
		for {
			end := bytes.IndexByte(b, '\n')
			if end < 0 && len(b) == len(buffer) {
				end = len(b) - 1 // a line that is too long goes in pieces
			}
			if end < 0 {
				break
			}
			r.add(bytes.TrimSuffix(bytes.TrimSuffix(b[:end+1], []byte{'\n'}), []byte{'\r'}))
			b = b[end+1:]
		}
		timeout := errors.Is(err, os.ErrDeadlineExceeded)
		if err != nil && !timeout {
			r.add(b)
		}
		if err != nil {
			r.maker.Flush(&r.out)
			r.file.SetReadDeadline(time.Time{})
		}
		r.pass()
		if err != nil && !timeout {
			return
		}
		held = copy(buffer, b)
	}
}

func (r *reader) add(text []byte) {
	r.maker.Add(&r.out, &lines.Line{Text: text, Stream: r.stream, Received: record.StampOf(time.Now())})
}

var streamFields = map[record.Stream]lines.Fields{
	record.Stdout: lines.NewFields("wrap@32473", record.Label{Name: "stream", Value: "stdout"}),
	record.Stderr: lines.NewFields("wrap@32473", record.Label{Name: "stream", Value: "stderr"}),
}

func (r *reader) pass() {
	for i := range r.out.Batch.Records {
		rec := &r.out.Batch.Records[i]
		if rec.ProcID == nil {
			rec.ProcID = r.procID
		}
		streamFields[r.stream].AddTo(&r.out, rec)
		r.queue.add(rec)
	}
	r.out.Reset()
}
