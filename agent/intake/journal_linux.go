package intake

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/journal"
	"oakbarrel/core/paths"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/tail"
	"oakbarrel/core/wire"
)

const (
	journalBatch  = 512             // entries that are passed on together at most
	journalMemory = 1 << 20         // bytes of their values, likewise
	journalAgain  = 5 * time.Second // between two tries to read
	journalSave   = time.Second     // between two times that the place is written down
)

// journalEndpoint reads the system's journal, by its own command. How far its entries
// were passed on is kept with each outlet, as for files; each line of numbers of the
// journal is a source, and the number the offset in it.
type journalEndpoint struct {
	logReading
	settings *plan.Journal
	machine  string // the id of this one, "" where those of others are meant
	routing  route.Routing
	batch    record.Batch
	entry    journal.Entry
	memory   []byte
	saved    time.Time

	mu      sync.Mutex
	place   journalPlace
	at      time.Time // which was written then
	waits   bool      // there is more to read
	trouble string
	said    string // by the command, while it reads
}

// journalPlace is how far a journal was read.
type journalPlace struct {
	First journal.Place // the first entry of the line of numbers that was read: an outlet that knows nothing of the line begins there
	Last  journal.Place // and the last one that was passed on
}

// openJournal opens the journal for an intake.
func (a *Agent) openJournal(in *plan.Intake) (Endpoint, error) {
	if _, err := exec.LookPath(journalCommand); err != nil {
		return nil, fmt.Errorf("this machine has no journal that could be read: %w", err)
	}
	e := &journalEndpoint{settings: in.Journal}
	if id, err := os.ReadFile("/etc/machine-id"); err == nil && in.Journal.Folder == "" {
		e.machine = strings.TrimSpace(string(id))
	}
	if err := beginLog(a, e, &e.logReading, in.Name, "the journal", journalFile(in.Name), &e.place); err != nil {
		return nil, err
	}
	return e, nil
}

const journalCommand = "journalctl"

// journalFile is the name of the file of the state folder that says how far the journal was read.
func journalFile(intake string) string { return filepath.Join(followedDir, intake+".journal") }

// source is the name of a line of numbers, as outlets know it.
func (e *journalEndpoint) source(line string) string { return "journal:" + e.name + ":" + line }

func (e *journalEndpoint) Bound() string {
	return "journal:" + cmp.Or(e.settings.Folder, e.settings.Namespace, "system")
}

// Run reads until the endpoint is drained; where the command ends, it is begun again.
func (e *journalEndpoint) Run() {
	defer close(e.done)
	for e.ctx.Err() == nil {
		err := e.read()
		if e.ctx.Err() != nil {
			return
		}
		e.setTrouble(fmt.Sprintf("the journal cannot be read: %v; it is tried again", err))
		e.agent.Log.Error("the journal cannot be read; it is tried again", "intake", e.name, "why", err)
		select {
		case <-e.ctx.Done():
		case <-time.After(journalAgain):
		}
	}
}

// read reads entries from where the outlets are, until the command ends. It ends by itself
// where the agent is killed, as nobody reads what it writes any more.
func (e *journalEndpoint) read() error {
	command := exec.Command(journalCommand, e.arguments()...)
	said := &sayings{e: e}
	e.setSaid("")
	command.Stderr = said
	out, err := command.StdoutPipe()
	if err != nil {
		return err
	}
	if err := command.Start(); err != nil {
		return err
	}
	stop := context.AfterFunc(e.ctx, func() { command.Process.Kill() })
	err = e.passAll(journal.NewReader(out, wire.MaxMessage))
	stop()
	command.Process.Kill()
	ended := command.Wait()
	if text := said.text(); text != "" && errors.Is(err, io.EOF) {
		return fmt.Errorf("%s says: %s", journalCommand, text)
	}
	if errors.Is(err, io.EOF) && ended != nil {
		return fmt.Errorf("%s ended: %w", journalCommand, ended)
	}
	return err
}

// sayings keeps the beginning of what the command says beside entries: what it may not
// read, above all.
type sayings struct {
	e  *journalEndpoint
	mu sync.Mutex
	b  []byte
}

func (s *sayings) Write(b []byte) (int, error) {
	s.mu.Lock()
	s.b = append(s.b, b[:min(len(b), mostSaid-len(s.b))]...)
	s.mu.Unlock()
	s.e.setSaid(s.text())
	return len(b), nil
}

// mostSaid bounds what is kept of it, in bytes.
const mostSaid = 500

func (s *sayings) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(strings.Fields(string(bytes.ToValidUTF8(s.b, nil))), " ")
}

// arguments say where to begin, and go on for ever.
func (e *journalEndpoint) arguments() []string {
	// Without merge, follow leaves out what was said before the machine was started last.
	args := []string{"--output=export", "--all", "--follow", "--merge", "--lines=all", "--no-pager"}
	if s := e.settings; s.Folder != "" {
		args = append(args, "--directory="+s.Folder)
	} else if s.Namespace != "" {
		args = append(args, "--namespace="+s.Namespace)
	}
	if from := e.from(); from != nil {
		return append(args, from...)
	}
	switch begin := e.settings.Begin; begin.Since {
	case plan.SinceBoot:
		if e.settings.Folder == "" { // what others sent is of no start of this machine
			return append(args, since(uptime()))
		}
	case plan.SinceNow:
		return append(args, "--since=now")
	case "":
		return append(args, since(begin.Age))
	}
	return args
}

func since(ago time.Duration) string {
	return fmt.Sprintf("--since=@%d", time.Now().Add(-ago).Unix())
}

// from says behind which entry the command is to begin, as all outlets have those before;
// nil where nothing was read yet.
func (e *journalEndpoint) from() []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	first, last := e.place.First, e.place.Last
	if last.Line == "" {
		return nil
	}
	least := last.Number
	for _, taken := range e.agent.Taken(e.source(last.Line), first.Number-1) {
		least = min(least, taken)
	}
	switch {
	case least == last.Number:
		return []string{"--after-cursor=" + last.Cursor}
	case least < first.Number:
		return []string{"--cursor=" + first.Cursor}
	}
	return []string{fmt.Sprintf("--after-cursor=s=%s;i=%x", last.Line, least)}
}

// passAll passes entries on as they come.
func (e *journalEndpoint) passAll(in *journal.Reader) error {
	for {
		e.batch.Reset()
		e.memory = e.memory[:0]
		place, at := e.place, time.Time{}
		for len(e.batch.Marks) == 0 || len(e.batch.Records) < journalBatch && len(e.memory) < journalMemory && in.More() {
			var err error
			before := len(e.memory)
			if e.memory, err = in.Next(&e.entry, e.memory); err != nil {
				if len(e.batch.Marks) > 0 && !e.pass(place, at, false) {
					return e.ctx.Err()
				}
				return err
			}
			if e.isForeign() {
				e.memory = e.memory[:before]
				continue
			}
			next, ok := journal.PlaceOf(e.entry.Get("__CURSOR"))
			if !ok {
				return fmt.Errorf("%w: an entry does not say where it stands", journal.ErrFormat)
			}
			e.lookForGap(place.Last, next)
			if place.First.Line != next.Line {
				place.First = next
			}
			place.Last = next
			at = e.add(next)
		}
		if !e.pass(place, at, in.More()) {
			return e.ctx.Err()
		}
	}
}

// isForeign tells whether the entry is of another machine, whose journal this one has too.
func (e *journalEndpoint) isForeign() bool {
	of := e.entry.Get("_MACHINE_ID")
	return e.machine != "" && len(of) > 0 && string(of) != e.machine
}

// lookForGap counts entries that are gone: they were removed before they could be read.
func (e *journalEndpoint) lookForGap(last, next journal.Place) {
	if gone := next.Number - last.Number - 1; last.Line == next.Line && gone > 0 {
		e.Owner().missed.Add(gone)
		e.agent.Log.Warn("entries of the journal are gone that were not read", "intake", e.name, "entries", gone, "before", next.Cursor)
	}
}

// add adds the entry to the batch, if it is to be taken, and returns when it was written.
func (e *journalEndpoint) add(place journal.Place) time.Time {
	source := e.source(place.Line)
	r := e.batch.Next()
	r.Received = record.StampOf(time.Now())
	r.Time = r.Received
	var hasMessage bool
	e.memory, hasMessage = e.entry.Fill(r, e.memory)
	at := time.Unix(r.Time.Sec, 0)
	if !hasMessage || !e.takes(r) {
		e.batch.Records = e.batch.Records[:len(e.batch.Records)-1]
		e.batch.TakeTo(source, place.Number)
		return at
	}
	e.flying.Add(1)
	e.batch.End(r, source, place.Number, nil)
	return at
}

// takes tells whether the plan wants an entry.
func (e *journalEndpoint) takes(r *record.Record) bool {
	if r.Severity() > e.settings.Least {
		return false
	}
	if len(e.settings.Units) == 0 {
		return true
	}
	unit := cmp.Or(string(e.entry.Get("_SYSTEMD_UNIT")), string(e.entry.Get("_SYSTEMD_USER_UNIT")))
	return slices.ContainsFunc(e.settings.Units, func(pattern string) bool { return paths.MatchPart(pattern, unit) })
}

// pass passes the batch on, and tells whether it was taken.
func (e *journalEndpoint) pass(place journalPlace, at time.Time, more bool) bool {
	guard.Boundary("journal")
	if !e.agent.pass(&e.batch, &e.routing, e, true) {
		return false
	}
	e.flying.Store(0)
	e.mu.Lock()
	e.place, e.at, e.waits, e.trouble = place, at, more, ""
	e.mu.Unlock()
	if time.Since(e.saved) > journalSave {
		e.save()
	}
	return true
}

// save writes down how far all is passed on. It may be older than how far the outlets are,
// who know that themselves and pass over what they have.
func (e *journalEndpoint) save() {
	e.saved = time.Now()
	if err := e.agent.State.Save(journalFile(e.name), e.place); err != nil {
		e.agent.Log.Warn("how far the journal is read cannot be written down", "intake", e.name, "why", err)
	}
}

func (e *journalEndpoint) setTrouble(text string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.trouble = text
}

func (e *journalEndpoint) setSaid(text string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.said = text
}

func (e *journalEndpoint) Drain(time.Time) {
	e.drain(func() {
		if e.place.Last.Line != "" {
			e.save()
		}
	})
}

// Tell implements [Endpoint].
func (e *journalEndpoint) Tell(s *client.IntakeStatus) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if s.Trouble = e.trouble; s.Trouble == "" && e.said != "" {
		s.Trouble = journalCommand + " says: " + e.said
	}
}

// Rereads implements [Endpoint].
func (e *journalEndpoint) Rereads() Rereader { return e }

// Files implements [Rereader].
func (e *journalEndpoint) Files() []client.FollowedFile {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := client.FollowedFile{Intake: e.name, File: tail.File{Path: e.Bound(), Source: e.source(e.place.Last.Line), Size: e.place.Last.Number, Read: e.place.Last.Number, State: tail.AtEnd, Why: e.trouble}}
	if e.waits {
		f.State = tail.Reading
		f.BehindSeconds = time.Since(e.at).Seconds()
	}
	return []client.FollowedFile{f}
}

// Abandon implements [Rereader].
func (e *journalEndpoint) Abandon() {
	close(e.givenUp)
	e.Drain(time.Time{})
}

// Positions implements [Rereader].
func (e *journalEndpoint) Positions() []record.Mark {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.place.Last.Line == "" {
		return nil
	}
	return []record.Mark{{Source: e.source(e.place.Last.Line), Offset: e.place.Last.Number}}
}
