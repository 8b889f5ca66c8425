package wrap

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"oakbarrel/core/record"
)

// receiver takes messages once it is open.
type receiver struct {
	closed atomic.Bool
	got    []string
}

func (r *receiver) Send(message []byte) error {
	r.got = append(r.got, string(message[strings.LastIndex(string(message), "- ")+2:]))
	return nil
}
func closedReceiver() *receiver {
	r := &receiver{}
	r.closed.Store(true)
	return r
}

func (r *receiver) Close() error { return nil }

func (r *receiver) open(context.Context) (Sender, error) {
	if r.closed.Load() {
		return nil, errors.New("nobody is there")
	}
	return r, nil
}

func (q *queue) say(text string) { q.add(&record.Record{App: []byte("pumpd"), Text: []byte(text)}) }

func TestWhatNobodyTakesIsBoundedCountedAndTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q, r := newQueue(300), closedReceiver()
		go q.send(t.Context(), r.open)
		for n := range 20 {
			q.say(fmt.Sprint("line ", n))
		}
		time.Sleep(2 * time.Second)
		synctest.Wait()
		kept := int64(len(q.messages))
		if kept == 0 || q.dropped != 20-kept {
			t.Fatalf("%d are kept and %d dropped", kept, q.dropped)
		}
		r.closed.Store(false)
		time.Sleep(time.Second)
		q.say("and on")
		q.finish(time.Second)
		time.Sleep(2 * time.Second)
		synctest.Wait()
		if q.sent != kept+1 || r.got[0] != "line 0" || len(r.got) != int(kept)+2 {
			t.Errorf("%d are sent: %q", q.sent, r.got)
		}
		if told := fmt.Sprintf("%d records were dropped", 20-kept); !strings.Contains(strings.Join(r.got, "\n"), told) {
			t.Errorf("%q is not told: %q", told, r.got)
		}
	})
}

func TestWhatIsLeftAtTheEndIsCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q, r := newQueue(1000), closedReceiver()
		go q.send(t.Context(), r.open)
		q.say("line")
		q.finish(time.Second)
		time.Sleep(2 * time.Second)
		synctest.Wait()
		if q.dropped != 1 || q.sent != 0 {
			t.Errorf("%d are dropped, %d sent", q.dropped, q.sent)
		}
	})
}
