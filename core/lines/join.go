package lines

import (
	"bytes"
	"regexp"
	"time"

	"oakbarrel/core/decode"
	"oakbarrel/core/record"
)

// Join says which lines are one event. The zero Join is none: each line is an event.
type Join struct {
	Starts   *regexp.Regexp // what the first line of an event looks like
	Indented bool           // lines that begin with white space go on, and so do stack traces
	Wait     time.Duration  // for which an event waits for its next line
}

func (j *Join) none() bool { return j.Starts == nil && !j.Indented }

// trace knows, of an event, which stack trace it is in: their lines are not
// all indented.
type trace struct {
	python bool // in "Traceback …:", of which a line that is not indented is the last
	over   bool // that line has come; another trace may hang on to it
	golang bool // "panic:" or "goroutine …:"
	fault  bool // its only line names an error, below which a logger writes the trace
}

// start looks at the first line of an event.
func (t *trace) start(line []byte) {
	s, named := decode.FindSeverity(line)
	*t = trace{fault: named && s <= record.Error, python: bytes.HasPrefix(line, traceback), golang: bytes.HasPrefix(line, goPanic) || bytes.HasPrefix(line, goFatal) || isGoroutine(line)}
}

var (
	traceback  = []byte("Traceback (most recent call last):")
	hanging    = [][]byte{[]byte("During handling of the above exception"), []byte("The above exception was the direct cause")}
	causedBy   = []byte("Caused by:")
	goPanic    = []byte("panic: ")
	goFatal    = []byte("fatal error: ")
	goroutine  = []byte("goroutine ")
	createdBy  = []byte("created by ")
	signalMark = []byte("[signal ")
	moreFrames = regexp.MustCompile(`^\.\.\. \d+ (more|common frames omitted)`)
	// An exception with its package, which a logger writes below its message.
	javaException = regexp.MustCompile(`^(?:[a-z_][\w$]*\.)+[A-Z][\w$]*(?:Exception|Error|Throwable)(?::|$)`)
)

// goesOn tells whether a line that follows belongs to the event.
func (t *trace) goesOn(line []byte) bool {
	fault := t.fault
	t.fault = false
	if len(line) == 0 {
		return t.golang || t.over
	}
	if line[0] == ' ' || line[0] == '\t' {
		return true
	}
	switch {
	case fault && bytes.HasPrefix(line, traceback):
		t.python = true
		return true
	case t.python && !t.over:
		t.over = true
		return true
	case t.over && (bytes.HasPrefix(line, hanging[0]) || bytes.HasPrefix(line, hanging[1])):
		t.python, t.over = false, true
		return true
	case t.over && !t.python && bytes.HasPrefix(line, traceback):
		t.python, t.over = true, false
		return true
	case isGoroutine(line):
		t.golang = true
		return true
	case t.golang:
		return line[len(line)-1] == ')' || bytes.HasPrefix(line, createdBy) || bytes.HasPrefix(line, signalMark)
	}
	return bytes.HasPrefix(line, causedBy) || moreFrames.Match(line) || javaException.Match(line)
}

// isGoroutine tells whether a line is like "goroutine 18 [running]:".
func isGoroutine(line []byte) bool {
	return bytes.HasPrefix(line, goroutine) && bytes.HasSuffix(line, []byte("]:")) && bytes.IndexByte(line, '[') > len(goroutine)
}
