package outlet

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/roll"
)

// lastTidyTime bounds the last look at the tallies, before the agent ends.
const lastTidyTime = 2 * time.Second

// rollRequest asks for the sets of an outlet to be rolled.
type rollRequest struct{ answer chan<- []client.RolledSet }

// rollSets rolls the sets that hold something. What is held for them is
// written before, so that it stands in the piece.
func (o *File) rollSets(r rollRequest) {
	answer := []client.RolledSet{}
	written := o.writeHeld()
	for _, s := range o.all() {
		done := client.RolledSet{Outlet: o.settings.Name, Path: s.path}
		rolled, err := false, error(nil)
		if written {
			rolled, err = s.writer.RollEarly()
		}
		switch pieces, _ := s.writer.Pieces(); {
		case err != nil:
			done.Why = err.Error()
		case !rolled:
			done.Why = "the live file is empty"
		default:
			done.Rolled, done.Piece = true, pieces[len(pieces)-1].Path
		}
		answer = append(answer, done)
	}
	r.answer <- answer
}

// rollTime is how long somebody who wants files rolled waits for the outlet.
const rollTime = 5 * time.Second

// Roll rolls the sets of the outlet that hold something.
func (o *File) Roll(ctx context.Context) []client.RolledSet {
	answer := make(chan []client.RolledSet, 1)
	select {
	case o.rolls <- rollRequest{answer}:
		return <-answer
	case <-time.After(rollTime):
		return []client.RolledSet{{Outlet: o.Settings().Name, Path: o.path, Why: "the outlet is held up; its trouble is in the status"}}
	case <-ctx.Done():
		return nil
	}
}

// Tally returns the hash of the last line that this run has written into the tally
// of a set, "" for none. Known is false where the outlet has no set of that path.
func (o *File) Tally(path string) (hash string, known bool) {
	for _, s := range o.all() {
		if s.path == path {
			_, hash = s.writer.Tally()
			return hash, true
		}
	}
	return "", false
}

// tidy keeps the tallies, removes and compresses pieces, beside the writing.
// At the end it brings the tallies up to date.
func (o *File) tidy(ctx context.Context) {
	tick := time.NewTicker(tidyTime)
	defer tick.Stop()
	floor := time.NewTicker(time.Second)
	defer floor.Stop()
	var t tidying
	for {
		select {
		case <-ctx.Done(): // nothing is removed or compressed any more
			last, cancel := context.WithTimeout(context.Background(), lastTidyTime)
			for _, s := range o.all() {
				t.tell(o, s, s.writer.TallyNew(last))
			}
			cancel()
			t.removed.tell(o)
			return
		case <-o.rolled:
		case <-tick.C:
		case <-floor.C:
			t.makeRoom(o)
			continue
		}
		t.sets(ctx, o)
		if time.Since(t.removed.told) >= tidyTime {
			t.removed.tell(o)
		}
	}
}

// tidying is what the tidying of an outlet has to tell.
type tidying struct {
	trouble string
	removed removals
}

func (t *tidying) sets(ctx context.Context, o *File) {
	for _, s := range o.all() {
		t.tell(o, s, s.writer.Tidy(ctx, t.removed.add))
	}
}

func (t *tidying) tell(o *File, s *fileSet, err error) {
	if err != nil && !errors.Is(err, context.Canceled) && err.Error() != t.trouble {
		o.log.Error("pieces cannot be tidied", "path", s.path, "why", err)
		t.trouble = err.Error()
	}
}

// makeRoom removes the oldest piece of the agent, again and again, while the
// disk has no more free space than is to stay free. Where that one is of
// another outlet, that one does it.
func (t *tidying) makeRoom(o *File) {
	o.mu.Lock()
	floor := o.settings.File.Floor
	o.mu.Unlock()
	for floor.Check(disk.Existing(filepath.Dir(o.path))) != nil {
		oldest, at := o.oldest()
		if oldest == nil || o.agent.hasOlderPiece(at) {
			return
		}
		_, err := oldest.writer.GiveUpOldest(t.removed.add)
		t.tell(o, oldest, err)
		if err != nil {
			return
		}
	}
}

// oldest returns the set that has the oldest piece which may go, nil for none,
// and when that was rolled.
func (o *File) oldest() (oldest *fileSet, at time.Time) {
	for _, s := range o.all() {
		if pieces, _ := s.writer.Pieces(); len(pieces) > 0 && !s.writer.Settings().Hold && (oldest == nil || pieces[0].Stamp.Before(at)) {
			oldest, at = s, pieces[0].Stamp
		}
	}
	return oldest, at
}

// hasOlderPiece tells whether any outlet that is short of space too has a piece
// which may go and was rolled before.
func (a *Agent) hasOlderPiece(than time.Time) bool {
	return slices.ContainsFunc(a.Outlets(), func(o Outlet) bool {
		f := o.Rolls()
		if f == nil {
			return false
		}
		oldest, at := f.oldest()
		return oldest != nil && at.Before(than) && oldest.writer.Settings().Floor.Check(disk.Existing(filepath.Dir(f.path))) != nil
	})
}

// removals is what keep has removed since it was last told. It is told at once,
// and then at most once in tidyTime.
type removals struct {
	pieces      int
	bytes       int64
	first, last time.Time // of their records
	why         string    // the first was
	told        time.Time
}

func (r *removals) add(gone roll.Removal) {
	first, last := gone.Span()
	if r.pieces == 0 {
		r.first, r.why = first, gone.Why
	}
	r.pieces, r.bytes, r.last = r.pieces+1, r.bytes+gone.Size, last
}

func (r *removals) tell(o *File) {
	if r.pieces == 0 {
		return
	}
	o.log.Info("pieces are removed, as keep says", "path", o.path, "pieces", r.pieces, "bytes", r.bytes, "why", r.why, "records_from", r.first.Format(time.RFC3339), "to", r.last.Format(time.RFC3339))
	*r = removals{told: time.Now()}
}
