package wrap

import (
	"context"
	"fmt"
	"sync"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// retryTime is how long is waited after a failure.
const retryTime = 250 * time.Millisecond

// queue holds records until an agent has taken them, up to a number of bytes:
// what is over is dropped, and told once an agent is there again.
type queue struct {
	mu       sync.Mutex
	messages [][]byte
	bytes    int
	most     int
	sent     int64
	dropped  int64
	untold   int64 // dropped, and not told of yet
	last     record.Record
	why      error     // the last message was not taken, nil where it was
	deadline time.Time // once the program has ended
	ending   bool
	wake     chan struct{}
}

func newQueue(most int) *queue { return &queue{most: most, wake: make(chan struct{}, 1)} }

func (q *queue) add(r *record.Record) {
	message := wire.AppendRFC5424(nil, r)
	q.mu.Lock()
	if q.bytes+len(message) > q.most {
		q.dropped++
		q.untold++
		q.last = record.Record{Priority: record.MakePriority(r.Facility(), record.Warning), Host: append([]byte(nil), r.Host...), App: append([]byte(nil), r.App...), ProcID: append([]byte(nil), r.ProcID...)}
	} else {
		q.messages = append(q.messages, message)
		q.bytes += len(message)
	}
	q.mu.Unlock()
	q.signal()
}

func (q *queue) signal() {
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

// finish has send end once all is sent, or after a time.
func (q *queue) finish(linger time.Duration) {
	q.mu.Lock()
	q.ending, q.deadline = true, time.Now().Add(linger)
	q.mu.Unlock()
	q.signal()
}

// send sends what comes until all is sent and the program has ended.
func (q *queue) send(ctx context.Context, open func(context.Context) (Sender, error)) {
	var to Sender
	defer func() {
		if to != nil {
			to.Close()
		}
	}()
	for {
		message, over := q.next()
		if over {
			return
		}
		if message == nil {
			<-q.wake
			continue
		}
		var err error
		if to == nil {
			to, err = open(ctx)
		}
		if err == nil {
			err = to.Send(message)
		}
		q.tried(err)
		if err == nil {
			q.took(message)
			continue
		}
		if to != nil {
			to.Close()
			to = nil
		}
		time.Sleep(retryTime)
	}
}

// next returns the message that is to be sent, nil for none, and whether there
// will be no more, or no time for it.
func (q *queue) next() (message []byte, over bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.ending && (len(q.messages) == 0 && q.untold == 0 || time.Now().After(q.deadline)) {
		q.dropped += int64(len(q.messages))
		return nil, true
	}
	if len(q.messages) > 0 {
		return q.messages[0], false
	}
	if q.untold > 0 {
		q.last.Time = record.StampOf(time.Now())
		q.last.Text = fmt.Appendf(nil, "%d records were dropped, because no agent took them and the buffer was full", q.untold)
		return wire.AppendRFC5424(nil, &q.last), false
	}
	return nil, false
}

// tried notes how the last try to send went.
func (q *queue) tried(err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.why = err
}

// took notes that a message is sent.
func (q *queue) took(message []byte) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.messages) == 0 || &q.messages[0][0] != &message[0] { // it told of what was dropped
		q.untold = 0
		return
	}
	q.messages, q.bytes = q.messages[1:], q.bytes-len(message)
	q.sent++
}
