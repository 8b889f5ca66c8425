package tend

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
)

const (
	passTime = 2 * time.Second // between two passes
	rollTime = 5 * time.Second // for which somebody who wants files rolled waits for a pass
)

// Keeper tends the files of the plan that is in force. Beside [Keeper.Run], its
// methods may be called by several goroutines at a time.
type Keeper struct {
	logger *slog.Logger
	tends  func() []plan.Tend
	unread func(path string) bool
	rolls  chan rollRequest

	mu    sync.Mutex
	files []client.TendedFile
}

// NewKeeper returns a keeper that asks tends for what it is to tend before each
// pass, and unread whether the agent has still to read a file.
func NewKeeper(log *slog.Logger, tends func() []plan.Tend, unread func(path string) bool) *Keeper {
	return &Keeper{logger: log, tends: tends, unread: unread, rolls: make(chan rollRequest)}
}

// Run makes passes until ctx ends, each with the plan that is in force.
func (k *Keeper) Run(ctx context.Context) {
	tick := time.NewTicker(passTime)
	defer tick.Stop()
	tenders := map[string]*tender{}
	defer func() {
		for _, t := range tenders {
			t.close()
		}
	}()
	troubles := map[string]string{} // by path
	for {
		next := map[string]*tender{}
		failed := map[string]string{}
		for _, s := range k.tends() {
			t := tenders[s.Name]
			if t == nil || !t.settings.Equal(s) {
				if t != nil {
					t.close()
				}
				t = newTender(s, nil)
				t.unread = k.unread
			}
			t.tell = func(did Action) { k.logAction(did, troubles, failed) }
			t.pass(ctx, false)
			next[s.Name] = t
		}
		for name, t := range tenders {
			if next[name] == nil {
				t.close()
			}
		}
		tenders, troubles = next, failed
		k.setFiles(tenders, failed)
		select {
		case <-ctx.Done():
			return
		case r := <-k.rolls:
			r.answer <- rollNow(ctx, tenders[r.name])
		case <-tick.C:
		}
	}
}

// rollRequest asks for the files of a tend to be rolled.
type rollRequest struct {
	name   string
	answer chan<- []client.RolledSet
}

// Roll has the files of a tend rolled now, those that hold something.
func (k *Keeper) Roll(ctx context.Context, name string) ([]client.RolledSet, error) {
	answer := make(chan []client.RolledSet, 1)
	select {
	case k.rolls <- rollRequest{name, answer}:
		return <-answer, nil
	case <-time.After(rollTime):
		return nil, errors.New("a pass over the files that others write takes long; try again")
	case <-ctx.Done():
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
	t.tell = func(did Action) {
		tell(did)
		if did.Path == "" || did.Action == Removed {
			return
		}
		set := client.RolledSet{Outlet: did.Tend, Path: did.Path, Rolled: did.Action == Rolled, Piece: did.Piece}
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

// logAction logs what a pass did; trouble only when it is new.
func (k *Keeper) logAction(did Action, before, now map[string]string) {
	switch did.Action {
	case Rolled:
		k.logger.Info("a file is rolled", "tend", did.Tend, "path", did.Path, "piece", did.Piece, "why", did.Why, "lines_may_be_lost_within", did.Window.String())
	case Removed:
		k.logger.Info("a piece is removed, as keep says", "tend", did.Tend, "piece", did.Piece, "why", did.Why)
	case Failed:
		key := did.Tend + " " + did.Path
		now[key] = did.Why
		if before[key] != did.Why {
			k.logger.Error("a file cannot be tended", "tend", did.Tend, "path", did.Path, "why", did.Why)
		}
	}
}

// setFiles remembers what a pass found.
func (k *Keeper) setFiles(tenders map[string]*tender, failed map[string]string) {
	files := []client.TendedFile{}
	for name, t := range tenders {
		for path, s := range t.sets {
			f := client.TendedFile{Tend: name, Path: path, Trouble: failed[name+" "+path]}
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
			files = append(files, client.TendedFile{Tend: name, Path: path, Trouble: why})
		}
	}
	slices.SortFunc(files, func(x, y client.TendedFile) int { return strings.Compare(x.Tend+x.Path, y.Tend+y.Path) })
	k.mu.Lock()
	defer k.mu.Unlock()
	k.files = files
}

// Files tells how the files are, as the last pass found them.
func (k *Keeper) Files() []client.TendedFile {
	k.mu.Lock()
	defer k.mu.Unlock()
	return append([]client.TendedFile{}, k.files...)
}

// Tally returns the hash of the last line in the tally of a file, "" for none.
// Known is false where no file of that path is tended.
func (k *Keeper) Tally(path string) (hash string, known bool) {
	for _, t := range k.Files() {
		if t.Path == path {
			return t.TallyHash, true
		}
	}
	return "", false
}
