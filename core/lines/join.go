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
	node   bool // the place of an error that nobody caught, by itself on a line
	php    bool // an error that names a stack trace to come
	code   bool // that line has just come, and the next is of the program's text
	two    bool // the first of the two lines that a record of Java's own logger begins with
	fault  bool // its head names a warning or worse, below which a logger writes the trace
}

// start looks at the first line of an event.
func (t *trace) start(line []byte) {
	place := isPlace(line)
	*t = trace{
		fault: isFault(line), python: bytes.HasPrefix(line, traceback), golang: bytes.HasPrefix(line, goPanic) || bytes.HasPrefix(line, goFatal) || isGoroutine(line),
		node: place, code: place, php: bytes.Contains(line, uncaught), two: decode.HeadOfTwo(line),
	}
}

// isFault tells whether a line names a level of warning or worse.
func isFault(line []byte) bool {
	s, named := decode.FindSeverity(line)
	return named && s <= record.Warning
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
	uncaught   = []byte("Uncaught ")
	stackTrace = []byte("Stack trace:")
	javaThread = []byte("Exception in thread ")
	dotnet     = []byte("Unhandled exception. ")
	rubyEnd    = []byte("Error)")
	nodeEnd    = []byte("Node.js v")
	moreFrames = regexp.MustCompile(`^\.\.\. \d+ (more|common frames omitted)`)
	// An exception, with its package or without, which a logger writes below its message.
	exception = regexp.MustCompile(`^(?:Uncaught )?(?:[A-Za-z_][\w$]*[.:]+)*[A-Z][\w$]*(?:Exception|Error|Throwable|Fault)(?:[:( \[]|$)`)
)

// goesOn tells whether a line that follows belongs to the event.
func (t *trace) goesOn(line []byte) bool {
	if t.two {
		t.two = false
		if decode.SecondOfTwo(line) {
			t.fault = isFault(line)
			return true
		}
	}
	if t.code {
		t.code = false
		return len(line) > 0 && !isPlace(line)
	}
	if len(line) == 0 {
		return t.golang || t.over || t.node
	}
	if line[0] == ' ' || line[0] == '\t' {
		return true
	}
	switch {
	case t.fault && !t.python && bytes.HasPrefix(line, traceback):
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
	case t.php && (bytes.HasPrefix(line, stackTrace) || isFrame(line)):
		return true
	case t.node && (bytes.HasPrefix(line, nodeEnd) || line[0] == '}' || line[0] == '^'):
		return true
	}
	return bytes.HasPrefix(line, causedBy) || moreFrames.Match(line) || (t.fault || t.node) && exception.Match(line)
}

// isCrash tells whether an event of several lines is the stack trace of an error that
// nobody caught: no logger wrote it, and it names no level.
func (t *trace) isCrash(text []byte) bool {
	head, _, several := bytes.Cut(text, []byte{'\n'})
	if !several {
		return false
	}
	return t.golang || t.python || t.over || t.node || t.php || exception.Match(head) || bytes.HasPrefix(head, javaThread) || bytes.HasPrefix(head, dotnet) || bytes.HasSuffix(head, rubyEnd)
}

// isGoroutine tells whether a line is like "goroutine 18 [running]:".
func isGoroutine(line []byte) bool {
	return bytes.HasPrefix(line, goroutine) && bytes.HasSuffix(line, []byte("]:")) && bytes.IndexByte(line, '[') > len(goroutine)
}

// isPlace tells whether a line is the place of an error, and nothing else:
// "/srv/tickets/app.js:12".
func isPlace(line []byte) bool {
	if len(line) < 4 || line[0] != '/' && !bytes.HasPrefix(line, []byte("file:")) && !bytes.HasPrefix(line, []byte("node:")) {
		return false
	}
	colon := bytes.LastIndexByte(line, ':')
	if colon < 2 || colon == len(line)-1 || bytes.IndexByte(line, ' ') >= 0 {
		return false
	}
	for _, c := range line[colon+1:] {
		if c-'0' > 9 {
			return false
		}
	}
	return true
}

// isFrame tells whether a line is like "#0 /srv/a.php(7): open()".
func isFrame(line []byte) bool { return len(line) > 2 && line[0] == '#' && line[1]-'0' <= 9 }
