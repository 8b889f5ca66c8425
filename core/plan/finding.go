package plan

import (
	"cmp"
	"fmt"
	"slices"
)

// Position is a place in a plan's file, both parts from 1. Columns count characters.
type Position struct{ Line, Column int }

// Finding is something wrong in a plan. With an error the plan is refused; a
// warning is about what is allowed and most likely not meant.
type Finding struct {
	File string
	Position
	Warning bool
	What    string // what is wrong
	Mend    string // how to mend it
}

// String returns "FILE:LINE:COLUMN: what is wrong; how to mend it".
func (f Finding) String() string {
	kind := ""
	if f.Warning {
		kind = "warning: "
	}
	return fmt.Sprintf("%s:%d:%d: %s%s; %s", f.File, f.Line, f.Column, kind, f.What, f.Mend)
}

// Findings is a list in the order of lines.
type Findings []Finding

// Refused tells whether any finding is an error.
func (l Findings) Refused() bool {
	return slices.ContainsFunc(l, func(f Finding) bool { return !f.Warning })
}

func (l Findings) sort() {
	slices.SortStableFunc(l, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}
