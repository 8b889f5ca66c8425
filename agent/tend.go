package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
	"oakbarrel/core/roll"
)

// tendPause is the time between two passes over the files that others write.
const tendPause = 2 * time.Second

// forecastPause is the time between two forecasts.
const forecastPause = 10 * time.Second

// What a pass does to a file.
const (
	TendRolled  = "rolled"
	TendLeft    = "left"    // it is not due
	TendRemoved = "removed" // a piece, as keep says
	TendTold    = "told"    // the program was told to open its file again
	TendFailed  = "failed"
)

// TendAction is what a pass did to a file, or in a dry run would do.
type TendAction struct {
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
	tell     func(TendAction)
	unread   func(path string) bool // whether the agent has still to read a file; nil without one
	now      bool                   // every file that holds something is due
}

func newTender(s plan.Tend, tell func(TendAction)) *tender {
	return &tender{settings: s, sets: map[string]*roll.Tended{}, tell: tell}
}

func (t *tender) act(path, action, piece, why string) {
	t.tell(TendAction{Tend: t.settings.Name, Path: path, Action: action, Piece: piece, Why: why})
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
			t.act(path, TendFailed, "", err.Error())
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
		err := s.Tidy(ctx, func(r roll.Removal) { t.act(path, TendRemoved, r.Path, r.Why) })
		if err != nil && ctx.Err() == nil {
			t.act(path, TendFailed, "", err.Error())
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
		t.act(path, TendFailed, "", err.Error())
		return false
	}
	if !f.Lock() {
		t.act(path, TendLeft, "", "another pass is in its folder")
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
	}
	switch {
	case errors.Is(err, fs.ErrNotExist): // renamed, and not made again yet
		return false
	case err != nil:
		t.act(path, TendFailed, "", err.Error())
		return false
	case !due:
		t.act(path, TendLeft, "", why)
		return false
	case dry:
		t.act(path, TendRolled, "", why)
		return true
	case !t.settings.Copy && s.Unsettled():
		t.act(path, TendLeft, "", "the piece before it is still being written to")
		return false
	}
	done := TendAction{Tend: t.settings.Name, Path: path, Action: TendRolled, Why: why}
	if t.settings.Copy {
		if err := t.settings.File.Floor.Check(filepath.Dir(path)); err != nil {
			t.act(path, TendFailed, "", err.Error())
			return false
		}
		done.Piece, done.Window, err = s.Copy()
	} else {
		done.Piece, err = s.Rename()
	}
	if err != nil {
		t.act(path, TendFailed, "", err.Error())
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
	case a.Signal != 0:
		what, err = signalTo(a)
	case a.Command != nil:
		what, err = runAfter(ctx, a)
	default:
		return
	}
	if err != nil {
		t.act("", TendFailed, "", err.Error())
		return
	}
	t.act("", TendTold, "", what)
}

// signalTo sends the signal to the process of the pid file. The file must be of
// root or of whom the process is of: else whoever may write it could have any
// process signalled.
func signalTo(a plan.After) (what string, err error) {
	f, err := disk.OpenRead(a.PIDFile)
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return "", err
	}
	b := make([]byte, 32)
	n, _ := f.Read(b)
	pid, err := strconv.Atoi(strings.TrimSpace(string(b[:n])))
	if err != nil || pid < 2 {
		return "", fmt.Errorf("%s does not hold the id of a process", a.PIDFile)
	}
	process, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		return "", fmt.Errorf("%s names process %d, which does not run", a.PIDFile, pid)
	}
	owner, of := st.Sys().(*syscall.Stat_t).Uid, process.Sys().(*syscall.Stat_t).Uid
	if owner != 0 && owner != of {
		return "", fmt.Errorf("%s is of user %d and names process %d of user %d; it is not signalled", a.PIDFile, owner, pid, of)
	}
	if err := unix.Kill(pid, a.Signal); err != nil {
		return "", fmt.Errorf("process %d of %s: %w", pid, a.PIDFile, err)
	}
	return fmt.Sprintf("%s to process %d", unix.SignalName(a.Signal), pid), nil
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

// TendOnce makes one pass over the files of a plan that others write, and waits
// until the programs have left what was renamed, as long as that may take.
func TendOnce(ctx context.Context, p *plan.Plan, dry bool, tell func(TendAction)) {
	for _, s := range p.Tends {
		t := newTender(s, tell)
		t.pass(ctx, dry)
		t.tell = func(a TendAction) {
			if a.Action != TendLeft {
				tell(a)
			}
		}
		for deadline := time.Now().Add(s.Settle + s.After.Within); !dry && t.unsettled() && ctx.Err() == nil; {
			if time.Now().After(deadline) {
				t.tell(TendAction{Tend: s.Name, Action: TendFailed, Why: "a program still writes into a piece; it is compressed by a later pass"})
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

// TendedFile tells how a file is that another program writes.
type TendedFile struct {
	Tend       string    `json:"tend"`
	Path       string    `json:"path"`
	LiveBytes  int64     `json:"live_bytes"`
	Pieces     int       `json:"pieces"`
	PieceBytes int64     `json:"piece_bytes"`
	TallyLines int       `json:"tally_lines"`
	TallyHash  string    `json:"tally_hash"`
	TallyTail  []string  `json:"tally_tail"`
	Rolled     time.Time `json:"rolled"` // last, zero for never
	Trouble    string    `json:"trouble"`
}

// tend makes passes until the agent ends, each with the plan that is in force.
func (a *Agent) tend() {
	tick := time.NewTicker(tendPause)
	defer tick.Stop()
	tenders := map[string]*tender{}
	defer func() {
		for _, t := range tenders {
			t.close()
		}
	}()
	troubles := map[string]string{} // by path
	var last *plan.Plan             // of which a forecast was made
	var made time.Time
	for {
		a.mu.RLock()
		p := a.plan
		a.mu.RUnlock()
		wanted := p.Tends
		if now := time.Now(); p != last || now.Sub(made) >= forecastPause {
			a.forecastOf(p, now)
			last, made = p, now
		}
		next := map[string]*tender{}
		failed := map[string]string{}
		for _, s := range wanted {
			t := tenders[s.Name]
			if t == nil || fmt.Sprint(t.settings) != fmt.Sprint(s) {
				if t != nil {
					t.close()
				}
				t = newTender(s, nil)
				t.unread = a.unread
			}
			t.tell = func(did TendAction) { a.logTended(did, troubles, failed) }
			t.pass(a.ending, false)
			next[s.Name] = t
		}
		for name, t := range tenders {
			if next[name] == nil {
				t.close()
			}
		}
		tenders, troubles = next, failed
		a.tellTended(tenders, failed)
		select {
		case <-a.ending.Done():
			return
		case r := <-a.tendRolls:
			r.answer <- rollNow(a.ending, tenders[r.name])
		case <-tick.C:
		}
	}
}

// tendRoll asks for the files of a tend to be rolled.
type tendRoll struct {
	name   string
	answer chan<- []client.RolledSet
}

// rollTended has the files of a tend rolled now.
func (a *Agent) rollTended(name string) ([]client.RolledSet, error) {
	answer := make(chan []client.RolledSet, 1)
	select {
	case a.tendRolls <- tendRoll{name, answer}:
		return <-answer, nil
	case <-time.After(5 * time.Second):
		return nil, errors.New("a pass over the files that others write takes long; try again")
	case <-a.ending.Done():
		return nil, errors.New("the agent stops")
	}
}

// rollNow makes a pass that rolls every file which holds something.
func rollNow(ctx context.Context, t *tender) []client.RolledSet {
	rolled := []client.RolledSet{}
	if t == nil { // the plan is new, and there was no pass yet
		return rolled
	}
	tell := t.tell
	t.tell = func(did TendAction) {
		tell(did)
		if did.Path == "" || did.Action == TendRemoved {
			return
		}
		set := client.RolledSet{Outlet: did.Tend, Path: did.Path, Rolled: did.Action == TendRolled, Piece: did.Piece}
		if !set.Rolled {
			set.Why = did.Why
		}
		rolled = append(rolled, set)
	}
	t.now = true
	t.pass(ctx, false)
	t.now = false
	return rolled
}

// forecastOf makes the forecast of the plan's files a part of the status.
func (a *Agent) forecastOf(p *plan.Plan, now time.Time) {
	report := forecast.Of(p.Sources(), now)
	a.mu.Lock()
	a.forecast = report
	a.mu.Unlock()
}

// logTended logs what a pass did; trouble only when it is new.
func (a *Agent) logTended(did TendAction, before, now map[string]string) {
	switch did.Action {
	case TendRolled:
		a.log.Info("a file is rolled", "tend", did.Tend, "path", did.Path, "piece", did.Piece, "why", did.Why, "lines_may_be_lost_within", did.Window.String())
	case TendRemoved:
		a.log.Info("a piece is removed, as keep says", "tend", did.Tend, "piece", did.Piece, "why", did.Why)
	case TendFailed:
		key := did.Tend + " " + did.Path
		now[key] = did.Why
		if before[key] != did.Why {
			a.log.Error("a file cannot be tended", "tend", did.Tend, "path", did.Path, "why", did.Why)
		}
	}
}

// tellTended makes what the passes found a part of the status.
func (a *Agent) tellTended(tenders map[string]*tender, failed map[string]string) {
	files := []TendedFile{}
	for name, t := range tenders {
		for path, s := range t.sets {
			f := TendedFile{Tend: name, Path: path, Trouble: failed[name+" "+path]}
			pieces, live := s.Pieces()
			f.LiveBytes, f.Pieces = live, len(pieces)
			for _, p := range pieces {
				f.PieceBytes += p.Size
			}
			if len(pieces) > 0 {
				f.Rolled = pieces[len(pieces)-1].Stamp
			}
			f.TallyLines, f.TallyHash = s.Tally()
			f.TallyTail = s.TallyTail()
			files = append(files, f)
		}
	}
	for key, why := range failed {
		name, path, _ := strings.Cut(key, " ")
		if t := tenders[name]; t != nil && t.sets[path] == nil {
			files = append(files, TendedFile{Tend: name, Path: path, Trouble: why})
		}
	}
	slices.SortFunc(files, func(x, y TendedFile) int { return strings.Compare(x.Tend+x.Path, y.Tend+y.Path) })
	a.mu.Lock()
	a.tended = files
	a.mu.Unlock()
}
