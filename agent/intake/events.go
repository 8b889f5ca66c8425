package intake

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/event"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/tail"
)

// Times of reading events.
const (
	eventsAgain   = 5 * time.Second  // between two tries to read
	eventsWait    = 2 * time.Second  // for events, between two looks whether the reading is to end
	eventsSave    = time.Second      // between two times that the places are written down
	channelsAgain = 30 * time.Second // between two looks for channels
	mostChannels  = 200              // that an intake reads; each has a reader of its own
)

// keptMemory is how much memory a channel keeps for its next events, in bytes.
const keptMemory = 256 << 10

// EventLog is the log of events that a system keeps, in channels. It is safe for concurrent use.
type EventLog interface {
	// Channels returns the names of the channels that can be read.
	Channels() ([]string, error)
	// Open reads the events of a channel behind one, or all where that has no number. The error
	// wraps [ErrStale] where the event does not stand there, or is another one: its time says.
	Open(channel string, after EventPlace) (EventReader, error)
}

// EventReader reads the events of a channel in their order. It is for one goroutine.
type EventReader interface {
	// Next returns the events that there are, some of them where they are many, and waits for
	// them; there are none where none came in time. They are valid until the next call.
	Next(wait time.Duration) ([]SystemEvent, error)
	Close()
}

// SystemEvent is an event that the system has.
type SystemEvent interface {
	// XML appends the event without its message.
	XML(dst []byte) ([]byte, error)
	// Message appends what the event says in the language of the host, or nothing where its
	// template is missing.
	Message(dst []byte) []byte
}

// EventPlace is where an event stands in its channel.
type EventPlace struct {
	Number int64  // 0 for before the first
	Time   string // as the event has it, "" where it is not known
}

// ErrStale says that an event does not stand in its channel any more.
var ErrStale = errors.New("the event does not stand there any more")

// channelPlace is how far a channel was read. Numbers grow until they begin anew; then another
// line of numbers begins, which is another source.
type channelPlace struct {
	Line  int
	First int64 // the first number that was taken: an outlet that knows nothing of the line begins there
	Last  EventPlace
	Begin time.Time // events before are left out until one was taken
}

// eventsEndpoint reads the log of events. How far each channel was passed on is kept with each
// outlet, as for files; each line of numbers is a source, and the number the offset in it.
type eventsEndpoint struct {
	logReading
	log      EventLog
	settings *plan.Events
	asksText bool      // the plan's condition asks what events say, so that they are rendered before
	begin    time.Time // events before are left out where a channel is new

	mu       sync.Mutex
	channels map[string]*channel // by name in lower case, as its case tells none apart
	places   map[string]channelPlace
	saved    time.Time
	trouble  string
}

// openEvents opens a log of events for an intake.
func (a *Agent) openEvents(in *plan.Intake, log EventLog) (Endpoint, error) {
	e := &eventsEndpoint{log: log, settings: in.Events, begin: beginOf(in.Events.Begin), channels: map[string]*channel{}}
	e.asksText = in.Events.When != nil && slices.ContainsFunc(in.Events.When.Asks(), func(what string) bool {
		return what == "text" || what == "shape" || what == "field event@32473.message"
	})
	if err := beginLog(a, e, &e.logReading, in.Name, "the log of events", eventsFile(in.Name), &e.places); err != nil {
		return nil, err
	}
	if e.places == nil {
		e.places = map[string]channelPlace{}
	}
	return e, nil
}

// beginOf returns from when on what the system keeps is read; zero for all.
func beginOf(b plan.Begin) time.Time {
	now := time.Now()
	switch b.Since {
	case plan.SinceAll:
		return time.Time{}
	case plan.SinceNow:
		return now
	case plan.SinceBoot:
		return now.Add(-uptime())
	}
	return now.Add(-b.Age)
}

// eventsFile is the name of the file of the state folder that says how far events were read.
func eventsFile(intake string) string { return filepath.Join(followedDir, intake+".events") }

// Bound implements [Endpoint].
func (e *eventsEndpoint) Bound() string { return "events:" + strings.Join(e.settings.Channels, ",") }

// Run reads each channel in a goroutine of its own, until the endpoint is drained. It looks for
// channels that are new from time to time.
func (e *eventsEndpoint) Run() {
	defer close(e.done)
	var readers sync.WaitGroup
	defer readers.Wait()
	for e.ctx.Err() == nil {
		for _, c := range e.newChannels() {
			readers.Go(c.run)
		}
		select {
		case <-e.ctx.Done():
		case <-time.After(channelsAgain):
		}
	}
}

// newChannels returns the channels that the plan wants and that are not read yet.
func (e *eventsEndpoint) newChannels() (found []*channel) {
	guard.Boundary("events")
	names, err := e.log.Channels()
	e.mu.Lock()
	defer e.mu.Unlock()
	e.trouble = ""
	if err != nil {
		e.trouble = fmt.Sprintf("the channels cannot be listed: %v; it is tried again", err)
	}
	for _, name := range e.settings.Channels { // also one that is not there yet is told of
		if !strings.ContainsAny(name, "*?[") && !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) }) {
			names = append(names, name)
		}
	}
	left := 0
	for _, name := range names {
		key := strings.ToLower(name)
		switch {
		case e.channels[key] != nil || !e.settings.Takes(name):
		case len(e.channels) >= mostChannels:
			left++
		default:
			c := &channel{endpoint: e, name: name, key: key, place: e.places[key]}
			e.channels[key] = c
			found = append(found, c)
		}
	}
	if left > 0 {
		e.trouble = fmt.Sprintf("%d channels are not read: an intake reads %d; name those that are wanted", left, mostChannels)
	}
	return found
}

// took notes how far a channel is passed on, and writes it down from time to time. It may be
// older than how far the outlets are, who know that themselves and pass over what they have.
func (e *eventsEndpoint) took(c *channel, place channelPlace) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.places[c.key], c.place = place, place
	if time.Since(e.saved) > eventsSave {
		e.save()
	}
}

func (e *eventsEndpoint) save() {
	e.saved = time.Now()
	if err := e.agent.State.Save(eventsFile(e.name), e.places); err != nil {
		e.agent.Log.Warn("how far events are read cannot be written down", "intake", e.name, "why", err)
	}
}

// Drain implements [Endpoint].
func (e *eventsEndpoint) Drain(time.Time) {
	e.drain(func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		e.save()
	})
}

// Tell implements [Endpoint].
func (e *eventsEndpoint) Tell(s *client.IntakeStatus) {
	e.mu.Lock()
	defer e.mu.Unlock()
	s.Trouble = e.trouble
	for _, c := range e.channels {
		s.Trouble = cmp.Or(s.Trouble, c.trouble)
	}
}

// Rereads implements [Endpoint].
func (e *eventsEndpoint) Rereads() Rereader { return e }

// Abandon implements [Rereader].
func (e *eventsEndpoint) Abandon() {
	close(e.givenUp)
	e.Drain(time.Time{})
}

// Files implements [Rereader].
func (e *eventsEndpoint) Files() (all []client.FollowedFile) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, c := range e.channels {
		f := tail.File{Path: "events:" + c.name, Source: c.source(c.place.Line), Size: c.place.Last.Number, Read: c.place.Last.Number, State: tail.AtEnd, Why: c.trouble}
		if c.trouble != "" {
			f.State = tail.NotRead
		}
		all = append(all, client.FollowedFile{Intake: e.name, File: f})
	}
	slices.SortFunc(all, func(a, b client.FollowedFile) int { return cmp.Compare(a.Path, b.Path) })
	return all
}

// Positions implements [Rereader].
func (e *eventsEndpoint) Positions() (all []record.Mark) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, c := range e.channels {
		if c.place.Line > 0 {
			all = append(all, record.Mark{Source: c.source(c.place.Line), Offset: c.place.Last.Number})
		}
	}
	return all
}

// channel reads one channel of the log.
type channel struct {
	endpoint  *eventsEndpoint
	name, key string

	// Under the endpoint's mu, and written by the reader alone.
	place   channelPlace
	trouble string

	stale   bool  // the event that was read last is gone
	from    int64 // up to which all outlets have the events
	flying  int64 // records that were read and are not passed on yet
	seen    int64 // the number that was read last, 0 for none since the channel was opened
	reader  event.Reader
	routing route.Routing
	batch   record.Batch
	memory  []byte
}

// source is the name of a line of numbers, as outlets know it.
func (c *channel) source(line int) string {
	return fmt.Sprintf("events:%s:%s:%d", c.endpoint.name, c.key, line)
}

// run reads until the endpoint is drained; where the log fails, it is opened again.
func (c *channel) run() {
	e := c.endpoint
	for e.ctx.Err() == nil {
		var err error
		if e.agent.Guard.Run(guard.Intake(e.Owner().Name()), func() { err = c.read() }) {
			c.passed() // what was not passed on is read again
			err = errFailed
		}
		if e.ctx.Err() != nil {
			return
		}
		if c.setTrouble(fmt.Sprintf("channel %s cannot be read: %v; it is tried again", c.name, err)) {
			e.agent.Log.Error("events cannot be read; it is tried again", "intake", e.name, "channel", c.name, "why", err)
		}
		select {
		case <-e.ctx.Done():
		case <-time.After(eventsAgain):
		}
	}
}

var errFailed = errors.New("a part of the agent has failed")

// setTrouble tells whether it is another one than before.
func (c *channel) setTrouble(text string) bool {
	c.endpoint.mu.Lock()
	defer c.endpoint.mu.Unlock()
	other := c.trouble != text
	c.trouble = text
	return other
}

func (c *channel) read() error {
	in, err := c.open()
	if err != nil {
		return err
	}
	defer in.Close()
	for c.endpoint.ctx.Err() == nil {
		guard.Boundary("events")
		events, err := in.Next(eventsWait)
		if err != nil {
			return err
		}
		c.setTrouble("")
		if len(events) > 0 && !c.take(events) {
			return c.endpoint.ctx.Err()
		}
	}
	return nil
}

// open opens the channel where the outlets are. Where the event that was read last is gone, all
// that there is is read.
func (c *channel) open() (EventReader, error) {
	log := c.endpoint.log
	last := c.place.Last
	c.stale, c.from, c.seen = false, last.Number, 0
	if last.Number > 0 {
		for _, taken := range c.endpoint.agent.Taken(c.source(c.place.Line), c.place.First-1) {
			c.from = min(c.from, taken)
		}
	}
	in, err := log.Open(c.name, last)
	if errors.Is(err, ErrStale) {
		c.stale = true
		return log.Open(c.name, EventPlace{})
	}
	if err != nil || c.from == last.Number {
		return in, err
	}
	in.Close()
	if in, err = log.Open(c.name, EventPlace{Number: c.from}); errors.Is(err, ErrStale) {
		in, err = log.Open(c.name, EventPlace{})
	}
	return in, err
}

// take makes records of events and passes them on. It tells whether they were taken.
func (c *channel) take(events []SystemEvent) bool {
	e := c.endpoint
	c.batch.Reset()
	c.memory = c.memory[:0]
	place := c.place
	for _, of := range events {
		start := len(c.memory)
		var err error
		if c.memory, err = of.XML(c.memory); err != nil {
			c.cannot(err)
			continue
		}
		var found *event.Event
		found, c.memory, err = c.reader.Read(c.memory[start:len(c.memory):len(c.memory)], c.memory)
		if err == nil && found.Number() == 0 {
			err = errors.New("it has no number")
		}
		if err != nil {
			c.cannot(err)
			continue
		}
		if c.follow(&place, found) {
			c.add(&place, found, of)
		}
	}
	if len(c.batch.Marks) > 0 && !e.agent.pass(&c.batch, &c.routing, e, true) {
		return false
	}
	c.passed()
	e.took(c, place)
	if cap(c.memory) > keptMemory {
		c.memory = nil
	}
	return true
}

// passed notes that no record of the channel is on its way.
func (c *channel) passed() {
	c.endpoint.flying.Add(-c.flying)
	c.flying = 0
}

// cannot tells of an event that cannot be read. Its number is found missing by the next.
func (c *channel) cannot(why error) {
	c.warn("an event cannot be read", "behind", c.place.Last.Number, "why", why)
}

// follow moves the place to an event, and tells whether that is to be taken: it comes again where
// outlets lag behind, and is none of ours where it was there before the plan begins.
func (c *channel) follow(place *channelPlace, found *event.Event) bool {
	number := found.Number()
	before := max(c.seen, c.from)
	anew := c.seen > 0 && number <= c.seen || c.stale && number <= place.Last.Number
	c.seen, c.stale = number, false
	switch {
	case place.Line == 0:
		*place = channelPlace{Line: 1, First: number, Begin: c.endpoint.begin}
	case anew:
		c.warn("the log of events was cleared, and its numbers begin anew; what had not been read is gone", "last", place.Last.Number, "next", number)
		*place = channelPlace{Line: place.Line + 1, First: number}
		c.from = 0
	case number > place.Last.Number && number > before+1:
		c.endpoint.Owner().missed.Add(number - before - 1)
		c.warn("events are gone that were not read: the log was cleared, or turned over", "events", number-before-1, "before", number)
	}
	none := place.First > place.Last.Number // was taken yet
	if number > place.Last.Number {
		place.Last = EventPlace{number, string(found.Time)}
	}
	switch {
	case none && timeOf(found).Before(place.Begin):
		place.First = number + 1
		return false
	case none:
		place.First = number
	}
	return number >= place.First
}

func (c *channel) warn(what string, facts ...any) {
	c.endpoint.agent.Log.Warn(what, append([]any{"intake", c.endpoint.name, "channel", c.name}, facts...)...)
}

func timeOf(e *event.Event) time.Time {
	stamp, _, _ := record.ParseStamp(e.Time)
	return stamp.Time()
}

// add adds an event to the batch, if the plan wants it.
func (c *channel) add(place *channelPlace, found *event.Event, of SystemEvent) {
	source, when := c.source(place.Line), c.endpoint.settings.When
	r := c.batch.Next()
	r.Received = record.StampOf(time.Now())
	r.Time = r.Received
	before := when == nil || c.endpoint.asksText
	if before {
		c.render(found, of)
	}
	c.memory = found.Fill(r, c.memory)
	if when != nil && !when.Match(r) {
		c.batch.Records = c.batch.Records[:len(c.batch.Records)-1]
		c.batch.TakeTo(source, found.Number())
		return
	}
	if !before { // rendering takes longer than all else
		c.render(found, of)
		c.memory = found.Fill(r, c.memory)
	}
	c.endpoint.flying.Add(1)
	c.flying++
	c.batch.End(r, source, found.Number(), nil)
}

// render has the event say its message as the system renders it; one that another host sent has it.
func (c *channel) render(found *event.Event, of SystemEvent) {
	if len(found.Message) > 0 {
		return
	}
	start := len(c.memory)
	c.memory = of.Message(c.memory)
	found.Message = c.memory[start:len(c.memory):len(c.memory)]
}
