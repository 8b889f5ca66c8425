package agent

import (
	"context"
	"errors"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// What the orders about files tell at most.
const (
	mostPieces = 100
	mostLines  = 30
	verifyTime = 5 * time.Minute
)

// doFiles does an order about rolled sets; false where it is none.
func (a *Agent) doFiles(o client.Order) (client.Outcome, bool) {
	if o.Kind == "roll" {
		rolled, err := a.Roll(o.Outlet)
		if err != nil {
			return client.Outcome{Why: err.Error()}, true
		}
		return client.Outcome{Rolled: rolled}, true
	}
	tell, known := map[string]func(string, *client.Outcome) error{"pieces": a.tellPieces, "last_lines": a.tellLastLines, "verify": a.tellVerdict}[o.Kind]
	if !known {
		return client.Outcome{}, false
	}
	outcome := client.Outcome{}
	if _, known := a.tallyOf(o.Path); !known { // else anybody who may give orders could read any file
		return client.Outcome{Why: "the agent has no rolled set of that path"}, true
	}
	if err := tell(o.Path, &outcome); err != nil {
		return client.Outcome{Why: err.Error()}, true
	}
	return outcome, true
}

// tallyOf returns the hash of the last line that this run has written into the
// tally of a set, "" for none. Known is false where the path is not that of a
// live file which the agent writes or tends.
func (a *Agent) tallyOf(path string) (hash string, known bool) {
	for _, o := range a.inForce() {
		if f := o.Rolls(); f != nil {
			if hash, known = f.Tally(path); known {
				return hash, true
			}
		}
	}
	return a.tended.Tally(path)
}

func (a *Agent) tellPieces(path string, outcome *client.Outcome) error {
	pieces, err := roll.Pieces(path)
	if err != nil {
		return err
	}
	tally, _ := roll.ReadTally(path) // as far as it can be read
	lines := tally.ByName()
	for i := len(pieces) - 1; i >= 0 && len(outcome.Pieces) < mostPieces; i-- {
		p := pieces[i]
		told := client.Piece{Name: p.FileName(), Size: p.Size, Rolled: p.Stamp}
		if l := lines[p.Name()]; l != nil && !p.Counted {
			told.Tallied, told.Bytes, told.Records, told.First, told.Last = true, l.Bytes, l.Records, l.First, l.Last
		}
		outcome.Pieces = append(outcome.Pieces, told)
	}
	return nil
}

func (a *Agent) tellLastLines(path string, outcome *client.Outcome) error {
	set, err := roll.NewReader(path, false)
	if err != nil {
		return err
	}
	defer set.Close()
	for i := set.Files() - 1; i >= 0 && len(outcome.Lines) < mostLines; i-- {
		last, err := roll.Tail(func(each func([]byte) error) error { return set.Lines(i, each) }, mostLines-len(outcome.Lines), nil)
		if err != nil {
			return err
		}
		outcome.Lines = append(last, outcome.Lines...)
	}
	for i, line := range outcome.Lines {
		outcome.Lines[i] = record.ClipTo([]byte(line), 400)
	}
	return nil
}

func (a *Agent) tellVerdict(path string, outcome *client.Outcome) error {
	ctx, cancel := context.WithTimeout(a.ending, verifyTime)
	defer cancel()
	written, _ := a.tallyOf(path) // it finds a tally that was rewritten since
	v, err := roll.Verify(ctx, path, written)
	if errors.Is(err, context.DeadlineExceeded) {
		return errors.New("it takes too long; ask on the host: oakbarrel verify " + path)
	}
	outcome.Verdict = &v
	return err
}
