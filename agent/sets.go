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

// fileOrders returns what tells of rolled sets, by the orders that ask for it.
func (a *Agent) fileOrders() map[client.OrderKind]func(path string, to *client.Outcome) error {
	return map[client.OrderKind]func(string, *client.Outcome) error{client.TellPieces: a.tellPieces, client.LastLines: a.tellLastLines, client.VerifySet: a.tellVerdict}
}

// tellOfSet tells of the rolled set with a live file, if it is one of the agent's:
// else anybody who may give orders could read any file.
func (a *Agent) tellOfSet(path string, tell func(string, *client.Outcome) error) (outcome client.Outcome) {
	if _, known := a.tallyOf(path); !known {
		return client.Outcome{Why: "the agent has no rolled set of that path"}
	}
	if err := tell(path, &outcome); err != nil {
		return client.Outcome{Why: err.Error()}
	}
	return outcome
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
