package intake

import (
	"context"
	"log/slog"
	"os"
	"strconv"
	"sync"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// The agent's own log as records, so that its troubles are read where all else
// is. They are few: what is over is missed, and counted.
const (
	ownQueue = 100              // records that may wait
	ownMost  = 100              // records in ownSpan
	ownSpan  = 10 * time.Second // so that trouble with an outlet does not feed on itself
)

// ownHandler is a handler that writes to another and gives a copy to the intake
// "own", where the plan has one.
type ownHandler struct {
	slog.Handler
	to    *OwnLog
	attrs []slog.Attr
}

// OwnLog is where copies of the agent's own log wait. It is one for all handlers
// of an agent, which may use it from several goroutines at a time.
type OwnLog struct {
	mu     sync.Mutex
	intake *Intake // nil without such an intake
	queue  chan ownRecord
	begun  time.Time // of the span that is counted
	count  int
}

// NewOwnLog returns an empty one.
func NewOwnLog() *OwnLog { return &OwnLog{queue: make(chan ownRecord, ownQueue)} }

// Handler returns a handler that writes to another, and gives a copy to the intake
// of the agent's own log, where the plan has one.
func (o *OwnLog) Handler(to slog.Handler) slog.Handler { return &ownHandler{Handler: to, to: o} }

type ownRecord struct {
	at       time.Time
	severity record.Severity
	text     string
	data     []byte
}

func (h *ownHandler) Handle(ctx context.Context, r slog.Record) error {
	h.to.add(r, h.attrs)
	return h.Handler.Handle(ctx, r)
}

func (h *ownHandler) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &ownHandler{h.Handler.WithAttrs(attrs), h.to, append(h.attrs[:len(h.attrs):len(h.attrs)], attrs...)}
}

// add queues a record. It never waits: who logs may hold any lock.
func (o *OwnLog) add(r slog.Record, attrs []slog.Attr) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.intake == nil {
		return
	}
	if r.Time.Sub(o.begun) > ownSpan {
		o.begun, o.count = r.Time, 0
	}
	if o.count++; o.count > ownMost {
		o.intake.missed.Add(1)
		return
	}
	data := []byte("[log@32473")
	add := func(a slog.Attr) bool {
		data = append(append(append(data, ' '), a.Key...), '=', '"')
		data = append(record.AppendDataValue(data, []byte(a.Value.String())), '"')
		return true
	}
	for _, a := range attrs {
		add(a)
	}
	r.Attrs(add)
	own := ownRecord{r.Time, SeverityOf(r.Level), r.Message, append(data, ']')}
	select {
	case o.queue <- own:
	default:
		o.intake.missed.Add(1)
	}
}

// SeverityOf is the severity of a record of the agent's own log.
func SeverityOf(l slog.Level) record.Severity {
	switch {
	case l >= slog.LevelError:
		return record.Error
	case l >= slog.LevelWarn:
		return record.Warning
	case l >= slog.LevelInfo:
		return record.Info
	}
	return record.Debug
}

// ownEndpoint passes the agent's own records on.
type ownEndpoint struct {
	Common
	agent    *Agent
	batch    record.Batch
	routing  route.Routing
	draining sync.Once
	stopped  chan struct{}
	done     chan struct{}
}

func (a *Agent) openOwn() Endpoint {
	return &ownEndpoint{agent: a, stopped: make(chan struct{}), done: make(chan struct{})}
}

func (e *ownEndpoint) Bound() string { return "own" }

func (e *ownEndpoint) SetOwner(in *Intake) {
	e.Common.SetOwner(in)
	e.agent.Own.mu.Lock()
	defer e.agent.Own.mu.Unlock()
	e.agent.Own.intake = in
}

func (e *ownEndpoint) Run() {
	defer close(e.done)
	for {
		select {
		case r := <-e.agent.Own.queue:
			e.passOn(r)
		case <-e.stopped:
			for {
				select {
				case r := <-e.agent.Own.queue:
					e.passOn(r)
				default:
					return
				}
			}
		}
	}
}

func (e *ownEndpoint) passOn(own ownRecord) {
	e.batch.Reset()
	r := e.batch.Next()
	r.Received, r.Time = record.StampOf(time.Now()), record.StampOf(own.at)
	r.Priority = record.MakePriority(5, own.severity) // syslog: messages of the log's own programs
	Sign(r, e.agent.HostName())
	r.Text = []byte(own.text)
	r.SetData(own.data)
	e.agent.pass(&e.batch, &e.routing, e, false)
}

// Sign names the agent on host as the one a record is from.
func Sign(r *record.Record, host string) {
	r.Host, r.Agent, r.App, r.ProcID = []byte(host), []byte(host), []byte("oakbarrel"), strconv.AppendInt(nil, int64(os.Getpid()), 10)
}

func (e *ownEndpoint) Drain(time.Time) {
	e.draining.Do(func() {
		e.Close()
		close(e.stopped)
		<-e.done
	})
}

func (e *ownEndpoint) Close() {
	e.agent.Own.mu.Lock()
	defer e.agent.Own.mu.Unlock()
	e.agent.Own.intake = nil
}
