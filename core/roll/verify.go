package roll

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"oakbarrel/core/disk"
)

// Verdict is what the check of a set against its tally has found.
type Verdict struct {
	Path    string `json:"path"`
	OK      bool   `json:"ok"`
	Lines   int    `json:"lines"`
	Hash    string `json:"hash"`    // of the last line: kept elsewhere, it tells later whether the tally was rewritten
	Pieces  int    `json:"pieces"`  // that are as the tally says
	Records int64  `json:"records"` // in these
	Removed int    `json:"removed"` // pieces that keep has removed
	Late    int    `json:"late"`    // pieces whose line was written after a kill, at a start
	Why     string `json:"why"`     // the first thing that is wrong, "" for none
	Piece   string `json:"piece"`   // the name of the piece that it is about, "" for the tally itself
}

func (v *Verdict) wrong(piece, format string, args ...any) {
	if v.Why == "" {
		v.Piece, v.Why = piece, fmt.Sprintf(format, args...)
	}
}

// Verify checks the pieces of the set at live against its tally: none was
// changed, removed, added or moved. With expect, the hash of a line that was
// kept elsewhere, it also finds a tally that was cut short or rewritten. The
// live file is not looked at. The path of a piece stands for its set. An error
// says that it could not be checked.
func Verify(ctx context.Context, live, expect string) (Verdict, error) {
	if of, isPiece := LiveOf(live); isPiece {
		live = of
	}
	for tries := 0; ; tries++ {
		v, err := verify(ctx, live, expect)
		if err != nil || v.OK || tries == 10 || !isBusy(live, v) {
			return v, err
		}
		select {
		case <-ctx.Done():
			return v, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// noLine begins what is wrong with a piece that is not in the tally.
const noLine = "the tally has no line for it"

// isBusy tells whether the agent is at work on a set: its tally is another one
// than before, or the newest piece is so young that its line may yet come.
func isBusy(live string, v Verdict) bool {
	if t, err := ReadTally(live); err != nil || t.Hash != v.Hash {
		return err == nil
	}
	if !strings.HasPrefix(v.Why, noLine) {
		return false
	}
	pieces, err := Pieces(live)
	return err == nil && len(pieces) > 0 && time.Since(pieces[len(pieces)-1].Stamp) < 3*time.Second
}

func verify(ctx context.Context, live, expect string) (Verdict, error) {
	v := Verdict{Path: live}
	t, err := ReadTally(live)
	var changed *TallyError
	if err != nil && !errors.As(err, &changed) {
		return v, err
	}
	pieces, err := stablePieces(live)
	if err != nil {
		return v, err
	}
	pieces = once(pieces)
	if _, err := disk.Lstat(live); err != nil && len(t.Lines) == 0 && changed == nil && len(pieces) == 0 {
		return v, &fs.PathError{Op: "verify", Path: live, Err: fs.ErrNotExist}
	}
	v.Lines, v.Hash = len(t.Lines), t.Hash
	for _, l := range t.Lines {
		switch {
		case l.Event == Removed:
			v.Removed++
		case l.Late:
			v.Late++
		}
	}
	if changed != nil {
		v.wrong("", "%s", changed.Error())
		return v, nil
	}
	if expect != "" && !t.has(expect) {
		v.wrong("", "no line of the tally has the hash %s: it was cut short or rewritten", expect)
		return v, nil
	}
	return v, v.compare(ctx, t.Living(), pieces)
}

// has tells whether a line of the tally has a hash.
func (t *Tally) has(hash string) bool {
	if hash == t.Hash {
		return true
	}
	for _, l := range t.Lines {
		if l.Previous == hash {
			return true
		}
	}
	return false
}

// compare finds the first difference between what should be there and what is.
func (v *Verdict) compare(ctx context.Context, living []TallyLine, pieces []Piece) error {
	found, err := sumAll(ctx, pieces)
	if err != nil {
		return err
	}
	if len(living) > 0 && countedLine(v.Path, living[0]) {
		v.compareCounted(living, pieces, found)
		return nil
	}
	byHash := map[string]string{}
	for _, l := range living {
		byHash[l.SHA256] = l.Name
	}
	at := 0
	for _, l := range living {
		for at < len(pieces) && pieces[at].Name() != l.Name && named(pieces[at:], l.Name) {
			v.wrong(pieces[at].FileName(), noLine+": it was added")
			at++
		}
		if at == len(pieces) || pieces[at].Name() != l.Name {
			v.wrong(l.Name, "it was removed, and not by keep")
			continue
		}
		switch p, s := pieces[at], found[at]; {
		case s.err != nil:
			v.wrong(p.FileName(), "it cannot be read: %v", s.err)
		case s.line.SHA256 == l.SHA256:
			v.Pieces++
			v.Records += l.Records
		case byHash[s.line.SHA256] != "":
			v.wrong(p.FileName(), "it holds what %s held: it was moved", byHash[s.line.SHA256])
		default:
			v.wrong(p.FileName(), "its content was changed")
		}
		at++
	}
	v.end(pieces[min(at, len(pieces)):])
	return nil
}

// end judges the pieces behind the last line of the tally, and all.
func (v *Verdict) end(left []Piece) {
	if len(left) > 0 {
		v.wrong(left[0].FileName(), noLine+": it was added, or the agent was killed and writes its line at the next start")
	}
	v.OK = v.Why == ""
}

// named tells whether a piece has that name.
func named(pieces []Piece, name string) bool {
	return slices.ContainsFunc(pieces, func(p Piece) bool { return p.Name() == name })
}

// countedLine tells whether a line is about a piece whose name has a number,
// which changes with each roll.
func countedLine(live string, l TallyLine) bool {
	p, ok := parsePiece(live, filepath.Join(filepath.Dir(live), l.Name))
	return ok && p.Counted
}

// compareCounted is compare for pieces that only their order tells apart.
func (v *Verdict) compareCounted(living []TallyLine, pieces []Piece, found []summed) {
	holds := func(hash string) bool {
		return slices.ContainsFunc(found, func(s summed) bool { return s.err == nil && s.line.SHA256 == hash })
	}
	at := 0
	for _, l := range living {
		for at < len(found) && found[at].line.SHA256 != l.SHA256 && holds(l.SHA256) && len(pieces)-at > len(living)-v.Pieces {
			v.wrong(pieces[at].FileName(), noLine+": it was added")
			at++
		}
		switch {
		case at < len(found) && found[at].err == nil && found[at].line.SHA256 == l.SHA256:
			v.Pieces++
			v.Records += l.Records
			at++
		case at < len(found) && found[at].err != nil:
			v.wrong(pieces[at].FileName(), "it cannot be read: %v", found[at].err)
			at++
		case at < len(found) && holds(l.SHA256):
			v.wrong(pieces[at].FileName(), "it holds what another one held: it was moved")
			at++
		case len(pieces) < len(living):
			v.wrong(l.Name, "the piece that line %d of the tally closed was removed, and not by keep", l.Sequence)
		default:
			if at < len(pieces) {
				v.wrong(pieces[at].FileName(), "its content was changed")
			}
			at++
		}
	}
	v.end(pieces[min(at, len(pieces)):])
}

type summed struct {
	line TallyLine
	err  error
}

// sumAll reads all pieces, on all cores.
func sumAll(ctx context.Context, pieces []Piece) ([]summed, error) {
	all := make([]summed, len(pieces))
	next := make(chan int)
	var working sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		working.Go(func() {
			for i := range next {
				all[i].err = sum(ctx, pieces[i].Path, nil, &all[i].line)
			}
		})
	}
	for i := range pieces {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	working.Wait()
	return all, ctx.Err()
}
