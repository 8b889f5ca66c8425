package plan

import (
	"encoding/json"
	"time"
)

// The comparison for programs.
type (
	// Compared is a comparison that is finished.
	Compared struct {
		Records      int              `json:"records"`
		Since        time.Time        `json:"since"` // of the records
		Until        time.Time        `json:"until"`
		Same         int              `json:"same"`
		Moved        int              `json:"moved"`
		NoLongerKept int              `json:"no_longer_kept"`
		NewlyKept    int              `json:"newly_kept"`
		Outlets      []ComparedOutlet `json:"outlets"`
		Changes      []ComparedChange `json:"changes"`
	}
	// ComparedOutlet is what an outlet gets from each plan.
	ComparedOutlet struct {
		Name        string `json:"name"`
		OldRecords  int64  `json:"old_records"`
		NewRecords  int64  `json:"new_records"`
		OldBytesDay *int64 `json:"old_bytes_a_day"` // null where the sample is too short to tell
		NewBytesDay *int64 `json:"new_bytes_a_day"`
	}
	// ComparedChange is a change of ways that many records share.
	ComparedChange struct {
		Records  int               `json:"records"`
		From     []string          `json:"from"`
		To       []string          `json:"to"`
		OldRules []string          `json:"old_rules"`
		NewRules []string          `json:"new_rules"`
		Examples []json.RawMessage `json:"examples"`
	}
)

// Report returns the comparison for programs. Call Finish before.
func (c *Comparison) Report() Compared {
	j := Compared{Records: c.Records, Since: c.First, Until: c.Last, Same: c.Same, Moved: c.Moved, NoLongerKept: c.Lost, NewlyKept: c.New, Outlets: []ComparedOutlet{}, Changes: []ComparedChange{}}
	for _, o := range c.Outlets {
		out := ComparedOutlet{Name: o.Name, OldRecords: o.Records[0], NewRecords: o.Records[1]}
		if before, ok := c.ADay(o.Bytes[0]); ok {
			after, _ := c.ADay(o.Bytes[1])
			out.OldBytesDay, out.NewBytesDay = &before, &after
		}
		j.Outlets = append(j.Outlets, out)
	}
	for _, w := range c.Changes {
		change := ComparedChange{w.Records, list(w.From[0]), list(w.To[0]), list(w.From[1]), list(w.To[1]), []json.RawMessage{}}
		for _, e := range w.Examples {
			change.Examples = append(change.Examples, json.RawMessage(e))
		}
		j.Changes = append(j.Changes, change)
	}
	return j
}

// list returns names as a list that is never null.
func list(names []string) []string { return append([]string{}, names...) }
