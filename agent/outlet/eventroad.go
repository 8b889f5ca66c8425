package outlet

import (
	"context"
	"strconv"
	"unicode/utf8"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// eventWriter writes events as one source.
type eventWriter interface {
	// write writes an event with an id that a severity decides the type of.
	write(severity record.Severity, id uint32, text string) error
	close()
}

// eventRoad leads into the log of events of Windows. A batch is taken once all of it is written.
type eventRoad struct {
	plainRoad
	to     string // as an outlet's trouble names it
	open   func() (eventWriter, error)
	writer eventWriter
	events []madeEvent
	sent   uint64 // the number of the last event that is written: it does not go again with what is left of its batch
}

type madeEvent struct {
	number   uint64
	severity record.Severity
	id       uint32
	text     string
}

func (e *eventRoad) begin(_ context.Context, here uint64) (uint64, error) { return here, nil }
func (e *eventRoad) depth() int                                           { return 1 }
func (e *eventRoad) reset()                                               { e.events = e.events[:0] }

func (e *eventRoad) add(number uint64, r *record.Record) {
	if number > e.sent {
		e.events = append(e.events, madeEvent{number, r.Severity(), eventID(r), eventText(r)})
	}
}

func (e *eventRoad) close() {
	if e.writer != nil {
		e.writer.close()
		e.writer = nil
	}
}

func (e *eventRoad) pack(b spool.Batch, refused bool) delivery {
	return func(ctx context.Context) (uint64, error) {
		if refused || b.Records == 0 {
			return b.Last, nil
		}
		if err := e.deliver(ctx); err != nil {
			e.close()
			return 0, &client.RetryLater{Err: &client.Unreachable{Address: e.to, Err: err}}
		}
		return b.Last, nil
	}
}

func (e *eventRoad) deliver(ctx context.Context) (err error) {
	if e.writer == nil {
		if e.writer, err = e.open(); err != nil {
			return err
		}
	}
	for _, event := range e.events {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := e.writer.write(event.severity, event.id, event.text); err != nil {
			return err
		}
		e.sent = event.number
	}
	return nil
}

// Ids that the system's own file of messages for sources without one knows, each as what is given.
const mostEventID = 1000

// eventID returns the message id of a record where it can be the id of an event, else 1.
func eventID(r *record.Record) uint32 {
	if n, err := strconv.ParseUint(string(r.MsgID), 10, 32); err == nil && n >= 1 && n <= mostEventID {
		return uint32(n)
	}
	return 1
}

// mostEventText is how much an event may say, in units of UTF-16.
const mostEventText = 31_000

// eventText returns the text of a record with its properties below it, as text without a 0.
func eventText(r *record.Record) string {
	text := append([]byte{}, r.Text...)
	text = append(text, "\n\n"...)
	for _, p := range []struct {
		name  string
		value []byte
	}{
		{"time", r.Time.Append(nil, 9)}, {"severity", []byte(r.Severity().String())}, {"facility", []byte(r.Facility().String())}, {"host", r.Host}, {"app", r.App}, {"procid", r.ProcID}, {"msgid", r.MsgID}, {"fields", fieldsOf(r)},
	} {
		if len(p.value) > 0 {
			text = append(append(append(append(text, p.name...), ": "...), p.value...), '\n')
		}
	}
	return cutUnits(text, mostEventText)
}

func fieldsOf(r *record.Record) []byte {
	if !r.HasFields() {
		return nil
	}
	return r.Fields().Root().AppendJSON(nil)
}

// cutUnits returns at most so many units of a text, of which a character has one or two.
func cutUnits(text []byte, most int) string {
	cut := make([]byte, 0, len(text))
	for units := 0; len(text) > 0; {
		r, size := utf8.DecodeRune(text)
		text = text[size:]
		if r == 0 {
			r = utf8.RuneError
		}
		if units++; r > 0xffff {
			units++
		}
		if units > most {
			return string(append(cut, "…"...))
		}
		cut = utf8.AppendRune(cut, r)
	}
	return string(cut)
}
