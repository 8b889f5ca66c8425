package api

import (
	"encoding/json"
	"fmt"
	"time"

	"oakbarrel/client"
)

// troubleTime is how long the trouble with a tally is shown.
const troubleTime = 30 * 24 * time.Hour

// tallyMark is what an agent last said of the tally of a set. The service keeps
// it, so that whoever rewrites a tally on the host has not rewritten all.
type tallyMark struct {
	Lines   int        `json:"lines"`
	Hash    string     `json:"hash"`
	Trouble string     `json:"trouble,omitempty"`
	At      *time.Time `json:"at,omitempty"` // of the trouble
}

// toldTallies are the parts of a status that tell of tallies.
type toldTallies struct {
	Outlets []toldTally `json:"outlets"`
	Tended  []toldTally `json:"tended"`
}

type toldTally struct {
	Path  string   `json:"path"`
	Lines int      `json:"tally_lines"`
	Hash  string   `json:"tally_hash"`
	Tail  []string `json:"tally_tail"` // the hashes of the last lines, the last one last
}

// has tells whether a line has a hash, as far as the tail goes back.
func (t *toldTally) has(line int, hash string) bool {
	at := len(t.Tail) - 1 - (t.Lines - line)
	return at < 0 || at >= len(t.Tail) || t.Tail[at] == hash
}

// compareTallies returns the marks as they are after a status: with trouble
// where a tally has lost lines, or has another last line of the same number.
func compareTallies(old map[string]tallyMark, status []byte, now time.Time) map[string]tallyMark {
	var told toldTallies
	if json.Unmarshal(status, &told) != nil {
		return old // no agent of this version
	}
	marks := map[string]tallyMark{}
	for path, m := range old {
		marks[path] = m
	}
	for _, t := range append(told.Outlets, told.Tended...) {
		if t.Lines == 0 {
			continue
		}
		before, known := marks[t.Path]
		m := tallyMark{Lines: t.Lines, Hash: t.Hash, Trouble: before.Trouble, At: before.At}
		switch {
		case !known:
		case t.Lines < before.Lines:
			m.Trouble, m.At = fmt.Sprintf("it had %d lines, and has %d: it was cut short", before.Lines, t.Lines), &now
		case t.Lines == before.Lines && t.Hash != before.Hash, !t.has(before.Lines, before.Hash):
			m.Trouble, m.At = fmt.Sprintf("its line %d has another hash than before: it was written anew", before.Lines), &now
		case m.At != nil && now.Sub(*m.At) > troubleTime:
			m.Trouble, m.At = "", nil
		}
		marks[t.Path] = m
	}
	return marks
}

// troubleOf lists the tallies with trouble, as the service's interface has it.
func troubleOf(marks string) []client.TallyTrouble {
	trouble := []client.TallyTrouble{}
	all := map[string]tallyMark{}
	json.Unmarshal([]byte(marks), &all) // the service wrote it
	for path, m := range all {
		if m.Trouble != "" && m.At != nil {
			trouble = append(trouble, client.TallyTrouble{Path: path, What: m.Trouble, At: *m.At})
		}
	}
	return trouble
}
