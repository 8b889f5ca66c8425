package intake

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// madeLog stands in for the log of events of Windows: it keeps channels as that does, and dies or
// fails where a test wants it to.
type madeLog struct {
	mu       sync.Mutex
	channels map[string]*madeChannel
	calls    int              // that were made
	named    map[string]int   // and how many of each name
	dieAt    int              // the call with which all who read end, 0 for none
	fail     map[string]error // by the name of a call
	dead     bool
}

type madeChannel struct {
	events []*madeEvent
	next   int64 // number
}

type madeEvent struct {
	log          *madeLog
	number       int64
	time         string
	xml, message string
	broken       bool
}

func newMadeLog(names ...string) *madeLog {
	l := &madeLog{channels: map[string]*madeChannel{}, named: map[string]int{}, fail: map[string]error{}}
	for _, name := range names {
		l.channels[name] = &madeChannel{next: 1}
	}
	return l
}

// call counts a call, and ends the goroutine of who is dead.
func (l *madeLog) call(name string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.named[name]++
	if l.calls++; l.calls == l.dieAt {
		l.dead = true
	}
	if l.dead {
		runtime.Goexit()
	}
	return l.fail[name]
}

// write adds an event whose message is text.
func (l *madeLog) write(channel string, level int, text string) *madeEvent {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.channels[channel]
	e := &madeEvent{log: l, number: c.next, time: time.Now().UTC().Format("2006-01-02T15:04:05.0000000Z"), message: text}
	e.xml = fmt.Sprintf("<Event><System><Provider Name='pumpd'/><EventID>%d</EventID><Level>%d</Level><TimeCreated SystemTime='%s'/><EventRecordID>%d</EventRecordID><Channel>%s</Channel></System><EventData><Data Name='said'>%s</Data></EventData></Event>", e.number%3, level, e.time, e.number, channel, text)
	c.events, c.next = append(c.events, e), c.next+1
	return e
}

// writeAs changes the time that an event says.
func (l *madeLog) writeAs(e *madeEvent, at time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.xml = strings.Replace(e.xml, e.time, at.UTC().Format("2006-01-02T15:04:05.0000000Z"), 1)
}

// liveUntil has all who read end with a call that comes, 0 for none.
func (l *madeLog) liveUntil(call int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.calls, l.dieAt, l.dead = 0, call, false
}

func (l *madeLog) isDead() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.dead
}

// turnOver takes the oldest events away, and clear all of them; anew begins their numbers at 1.
func (l *madeLog) turnOver(channel string, events int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.channels[channel]
	c.events = c.events[min(events, len(c.events)):]
}

func (l *madeLog) clear(channel string, anew bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.channels[channel]
	if c.events = nil; anew {
		c.next = 1
	}
}

func (l *madeLog) Channels() (names []string, err error) {
	if err := l.call("channels"); err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for name := range l.channels {
		names = append(names, name)
	}
	slices.Sort(names)
	return names, nil
}

func (l *madeLog) Open(channel string, after EventPlace) (EventReader, error) {
	if err := l.call("open"); err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	var c *madeChannel
	for name, one := range l.channels {
		if strings.EqualFold(name, channel) {
			c = one
		}
	}
	if c == nil {
		return nil, errors.New("there is no such channel")
	}
	r := &madeReader{log: l, channel: c}
	if after.Number == 0 {
		return r, nil
	}
	for _, e := range c.events {
		if e.number == after.Number && (after.Time == "" || after.Time == e.time) {
			r.last = e
			return r, nil
		}
	}
	return nil, ErrStale
}

type madeReader struct {
	log     *madeLog
	channel *madeChannel
	last    *madeEvent
}

const madeBatch = 7

func (r *madeReader) Next(wait time.Duration) ([]SystemEvent, error) {
	if err := r.log.call("next"); err != nil {
		return nil, err
	}
	events := r.more()
	if events == nil {
		time.Sleep(wait)
		events = r.more()
	}
	return events, nil
}

func (r *madeReader) more() (found []SystemEvent) {
	r.log.mu.Lock()
	defer r.log.mu.Unlock()
	at := slices.Index(r.channel.events, r.last) + 1
	if at == 0 && r.last != nil { // what was read is gone: it goes on with what came behind
		at = slices.IndexFunc(r.channel.events, func(e *madeEvent) bool { return e.time > r.last.time })
		if at < 0 {
			return nil
		}
	}
	for _, e := range r.channel.events[at:min(len(r.channel.events), at+madeBatch)] {
		r.last = e
		found = append(found, e)
	}
	return found
}

func (r *madeReader) Close() {}

func (e *madeEvent) XML(dst []byte) ([]byte, error) {
	if err := e.log.call("xml"); err != nil {
		return dst, err
	}
	if e.broken {
		return dst, errors.New("it cannot be rendered")
	}
	e.log.mu.Lock()
	defer e.log.mu.Unlock()
	return append(dst, e.xml...), nil
}

func (e *madeEvent) Message(dst []byte) []byte {
	if e.log.call("message") != nil {
		return dst
	}
	return append(dst, e.message...)
}
