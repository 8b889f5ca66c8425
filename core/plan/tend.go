package plan

import (
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/nearest"
	"oakbarrel/core/paths"
	"oakbarrel/core/roll"
)

// Tend is files that other programs write, which are rolled and kept.
type Tend struct {
	Name   string
	Paths  []string      // patterns, absolute
	File   roll.Settings // of each file but for its path
	Copy   bool          // copied aside and cut, else renamed
	After  After         // what makes the program open its file again
	Settle time.Duration // for which a renamed file is left alone
}

// Equal tells whether two tends do the same to the same files.
func (t Tend) Equal(other Tend) bool {
	sameZone := zoneName(t.File.Zone) == zoneName(other.File.Zone)
	t.File.Zone, other.File.Zone = nil, nil // what is known of a zone differs with when it was asked for
	return sameZone && reflect.DeepEqual(t, other)
}

func zoneName(z *time.Location) string {
	if z == nil {
		return ""
	}
	return z.String()
}

// After is what is done once files were renamed. The zero After is nothing.
type After struct {
	Signal  string // to the process whose id is in PIDFile, such as "USR1"; "" for none
	PIDFile string
	Command []string      // a program and its arguments, nil for none
	Within  time.Duration // which it must end
}

func (r *planReader) readTends(e entry) {
	for _, named := range r.names(e.value, e.at, "tend", "tend: {NAME: {paths: […], keep: …, how: rename}}") {
		r.tends = append(r.tends, r.readTend(named))
	}
}

func (r *planReader) readTend(named entry) Tend {
	t := Tend{Name: named.key, Settle: 5 * time.Second}
	m, ok := r.mapping(named.value, named.at, "tend "+named.key, "{paths: [/srv/kiosk/*.log], roll: {size: 50MiB}, keep: {pieces: 7}, how: rename}",
		"paths", "roll", "names", "keep", "compress", "how", "after", "settle")
	if !ok {
		return t
	}
	t.File = roll.Settings{Mode: 0o640, Compress: roll.NoCompression, Zone: r.reading.Zone, Floor: r.floor}
	if e, ok := m.require("paths", "write paths: [/srv/kiosk/*.log]"); ok {
		t.Paths = r.patterns(e)
	}
	r.readSet(m, t.Name, &t.File, nil)
	if _, ok := m.get("roll"); !ok && !slices.Contains(m.meant, "roll") {
		r.fail(named.at, m.what+" has no roll", "write roll: {size: 50MiB, every: day}")
	}
	how, ok := m.require("how", "write how: rename, where the program can be told to open its file again, or how: copy")
	if ok {
		t.Copy = r.word(how, []string{"rename", "copy"}) == "copy"
	}
	after, hasAfter := m.get("after")
	switch {
	case hasAfter && t.Copy:
		r.fail(after.at, "after a copy the program goes on as before", "take after away, or write how: rename")
	case hasAfter:
		t.After = r.readAfter(after)
	case ok && !t.Copy:
		r.warn(named.at, "the program goes on to write into the piece until it opens its file again", "write after: {signal: HUP, pid_file: /run/….pid}, or how: copy")
	}
	if e, ok := m.get("settle"); ok {
		t.Settle = r.duration(e, 10*time.Millisecond, time.Hour, "5s")
	}
	return t
}

// patterns reads a list of absolute patterns of files.
func (r *planReader) patterns(e entry) (patterns []string) {
	for _, s := range r.texts(e, "a path", "a list of paths: [/srv/kiosk/*.log]") {
		at := positionOf(s.node)
		switch {
		case !r.isAbs(s.text):
			r.fail(at, fmt.Sprintf("the path %q is not absolute", shorten(s.text)), paths.HowAbsolute)
		case r.wrongPath(at, s.text):
		case r.checkPattern(s):
			patterns = append(patterns, filepath.Clean(s.text))
			r.checkTended(at, filepath.Clean(s.text))
		}
	}
	return patterns
}

// checkTended reports a pattern that finds files which an outlet writes.
func (r *planReader) checkTended(at Position, pattern string) {
	for _, o := range r.outlets {
		if o.Kind == FileOutlet && paths.Match(pattern, o.File.Path) {
			r.fail(at, fmt.Sprintf("the pattern finds the file of outlet %s, which the agent rolls by itself", o.Name), "write a pattern that does not, or another folder")
			return
		}
	}
}

func (r *planReader) readAfter(e entry) (a After) {
	a.Within = 30 * time.Second
	m, ok := r.mapping(e.value, e.at, "after", "{signal: USR1, pid_file: /run/kiosk.pid}, or {command: [PROGRAM, ARGUMENT]}", "signal", "pid_file", "command", "within")
	if !ok {
		return a
	}
	signal, hasSignal := m.get("signal")
	pid, hasPID := m.get("pid_file")
	command, hasCommand := m.get("command")
	switch {
	case hasCommand && hasSignal:
		r.fail(signal.at, "after has both a signal and a command", "take one away")
	case !hasCommand && !hasSignal && !m.faulty:
		r.fail(e.at, "after does nothing", "write signal: USR1 and pid_file, or command: [PROGRAM, ARGUMENT]")
	case hasSignal != hasPID && !m.faulty:
		r.fail(e.at, "signal and pid_file belong together", "write {signal: USR1, pid_file: /run/kiosk.pid}")
	}
	if hasSignal {
		r.checkLacking(signal)
		a.Signal = r.signal(signal)
	}
	if hasPID {
		a.PIDFile = r.path(pid, "/run/kiosk.pid")
	}
	if hasCommand {
		a.Command = r.command(command)
	}
	if e, ok := m.get("within"); ok {
		a.Within = r.duration(e, time.Second, 10*time.Minute, "30s")
	}
	return a
}

// signals are those that make programs open their files again.
var signals = []string{"HUP", "INT", "QUIT", "USR1", "USR2", "TERM", "WINCH"}

func (r *planReader) signal(e entry) string {
	s, ok := r.text(e, "the name of a signal, such as USR1")
	if !ok {
		return ""
	}
	name := strings.TrimPrefix(strings.ToUpper(s.text), "SIG")
	if !slices.Contains(signals, name) {
		mend := "write one of " + strings.Join(signals, ", ")
		if word, near := nearest.Word(name, signals); near {
			mend = fmt.Sprintf("did you mean %s?", word)
		}
		r.fail(e.valueAt(), fmt.Sprintf("signal cannot be %q", shorten(s.text)), mend)
		return ""
	}
	return name
}

// command reads a program with its arguments: a list, or a line for the shell.
func (r *planReader) command(e entry) (words []string) {
	if s, ok := r.scalarOf(e.value); ok {
		return append(slices.Clone(shell), s.text)
	}
	for _, s := range r.texts(e, "a word of the command", "command: [systemctl, reload, kiosk]") {
		words = append(words, s.text)
	}
	return words
}
