// Package tend rolls and keeps the files that other programs write, as the plan's
// tends say: it renames or copies what is due, tells the program to open its file
// again, compresses what the program has left, and removes what keep says.
//
// [Once] makes one pass, as from a timer. A running agent has a [Keeper], whose
// passes come every two seconds from one goroutine; a file that the agent has still
// to read is neither compressed nor removed.
package tend

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
	"oakbarrel/core/roll"
)

// What a pass does to a file.
const (
	Rolled  = "rolled"
	Left    = "left"    // it is not due
	Removed = "removed" // a piece, as keep says
	Told    = "told"    // the program was told to open its file again
	Failed  = "failed"
)

// Action is what a pass did to a file, or in a dry run would do.
type Action struct {
	Tend   string        `json:"tend"`
	Path   string        `json:"path"`
	Action string        `json:"action"`
	Piece  string        `json:"piece"`     // the path of the piece
	Why    string        `json:"why"`       // it was rolled, left or removed
	Window time.Duration `json:"window_ns"` // within which a copy may have lost lines
}

// tender rolls and keeps the files of one tend. It is for one goroutine.
type tender struct {
	settings plan.Tend
	sets     map[string]*roll.Tended
	tell     func(Action)
	unread   func(path string) bool // whether the agent has still to read a file; nil without one
	now      bool                   // every file that holds something is due
}

func newTender(s plan.Tend, tell func(Action)) *tender {
	return &tender{settings: s, sets: map[string]*roll.Tended{}, tell: tell}
}

func (t *tender) act(path, action, piece, why string) {
	t.tell(Action{Tend: t.settings.Name, Path: path, Action: action, Piece: piece, Why: why})
}

func (t *tender) close() {
	for _, s := range t.sets {
		s.Close()
	}
}

// pass rolls what is due, tells the programs, and tidies what they have left.
// A dry pass only tells what it would do.
func (t *tender) pass(ctx context.Context, dry bool) {
	locked := map[string]*disk.Folder{}
	defer func() {
		for _, f := range locked {
			if f != nil {
				f.Unlock()
				f.Close()
			}
		}
	}()
	renamed := false
	for _, path := range roll.LiveFiles(t.settings.Paths) {
		if ctx.Err() != nil {
			return
		}
		if !t.lock(locked, filepath.Dir(path), path) {
			continue
		}
		s, err := t.set(path, dry)
		if err != nil {
			t.act(path, Failed, "", err.Error())
			continue
		}
		if t.rollDue(s, path, dry) && !t.settings.Copy {
			renamed = true
		}
	}
	if renamed && !dry {
		t.after(ctx)
	}
	if dry {
		return
	}
	for path, s := range t.sets {
		if locked[filepath.Dir(path)] == nil {
			continue
		}
		err := s.Tidy(ctx, func(r roll.Removal) { t.act(path, Removed, r.Path, r.Why) })
		if err != nil && ctx.Err() == nil {
			t.act(path, Failed, "", err.Error())
		}
	}
}

// lock keeps other passes out of a folder.
func (t *tender) lock(locked map[string]*disk.Folder, dir, path string) bool {
	if f, known := locked[dir]; known {
		return f != nil
	}
	locked[dir] = nil
	f, err := disk.OpenFolder(dir)
	if err != nil {
		t.act(path, Failed, "", err.Error())
		return false
	}
	if !f.Lock() {
		t.act(path, Left, "", "another pass is in its folder")
		f.Close()
		return false
	}
	locked[dir] = f
	return true
}

// rollDue rolls a file that is due, and tells whether it did or would.
func (t *tender) rollDue(s *roll.Tended, path string, dry bool) bool {
	due, why, err := s.Due()
	if t.now && err == nil && !due && s.Size() > 0 {
		due, why = true, "somebody has asked for it"
		s.Early(true)
		defer s.Early(false)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist): // renamed, and not made again yet
		return false
	case err != nil:
		t.act(path, Failed, "", err.Error())
		return false
	case !due:
		t.act(path, Left, "", why)
		return false
	case dry:
		t.act(path, Rolled, "", why)
		return true
	case !t.settings.Copy && s.Unsettled():
		t.act(path, Left, "", "the piece before it is still being written to")
		return false
	}
	done := Action{Tend: t.settings.Name, Path: path, Action: Rolled, Why: why}
	if t.settings.Copy {
		if err := t.settings.File.Floor.Check(filepath.Dir(path)); err != nil {
			t.act(path, Failed, "", err.Error())
			return false
		}
		done.Piece, done.Window, err = s.Copy()
	} else {
		done.Piece, err = s.Rename()
	}
	if err != nil {
		t.act(path, Failed, "", err.Error())
		return false
	}
	t.tell(done)
	return true
}

// set returns the set of a file.
func (t *tender) set(path string, dry bool) (*roll.Tended, error) {
	if s := t.sets[path]; s != nil {
		return s, nil
	}
	settings, settle := t.settings.File, t.settings.Settle
	settings.Path = path
	if t.settings.Copy {
		settle = 0
	}
	s, err := roll.OpenTended(settings, settle, dry, time.Now)
	if err == nil {
		s.SetUnread(t.unread)
		t.sets[path] = s
	}
	return s, err
}

// after makes the program open its files again.
func (t *tender) after(ctx context.Context) {
	a := t.settings.After
	var what string
	var err error
	switch {
	case a.Signal != "":
		what, err = signalTo(a)
	case a.Command != nil:
		what, err = runAfter(ctx, a)
	default:
		return
	}
	if err != nil {
		t.act("", Failed, "", err.Error())
		return
	}
	t.act("", Told, "", what)
}

// runAfter runs the command, within its time.
func runAfter(ctx context.Context, a plan.After) (what string, err error) {
	ctx, cancel := context.WithTimeout(ctx, a.Within)
	defer cancel()
	c := exec.CommandContext(ctx, a.Command[0], a.Command[1:]...)
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput()
	what = strings.Join(a.Command, " ")
	if ctx.Err() == context.DeadlineExceeded {
		return "", fmt.Errorf("%s did not end within %s", what, a.Within)
	}
	if err != nil {
		last := strings.TrimSpace(string(out[max(0, len(out)-200):]))
		return "", fmt.Errorf("%s: %w: %s", what, err, last)
	}
	return what, nil
}

// unsettled tells whether pieces wait for their program to leave them.
func (t *tender) unsettled() bool {
	for _, s := range t.sets {
		if !t.settings.Copy && s.Unsettled() {
			return true
		}
	}
	return false
}

// Once makes one pass over the files of a plan that others write, and waits
// until the programs have left what was renamed, as long as that may take.
func Once(ctx context.Context, p *plan.Plan, dry bool, tell func(Action)) {
	for _, s := range p.Tends {
		t := newTender(s, tell)
		t.pass(ctx, dry)
		t.tell = func(a Action) {
			if a.Action != Left {
				tell(a)
			}
		}
		for deadline := time.Now().Add(s.Settle + s.After.Within); !dry && t.unsettled() && ctx.Err() == nil; {
			if time.Now().After(deadline) {
				t.tell(Action{Tend: s.Name, Action: Failed, Why: "a program still writes into a piece; it is compressed by a later pass"})
				break
			}
			time.Sleep(s.Settle / 8)
			for _, set := range t.sets {
				set.Tidy(ctx, func(roll.Removal) {})
			}
		}
		t.close()
	}
}
