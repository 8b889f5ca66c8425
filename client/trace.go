package client

import (
	"time"

	"oakbarrel/core/plan"
)

// Trace is how far a marked record has come on its way through an agent.
type Trace struct {
	TakenIn *time.Time      `json:"taken_in"` // nil where it was not seen yet
	Intake  string          `json:"intake"`
	Rules   []TraceRule     `json:"rules"`   // those that matched, in order
	Dropped string          `json:"dropped"` // the rule that dropped it, "" for none
	Outlets []OutletOfTrace `json:"outlets"`
}

// TraceRule is a rule that a record has met.
type TraceRule struct {
	Name    string   `json:"name"`
	Because string   `json:"because"`
	Changes []string `json:"changes"`
}

// OutletOfTrace is how far a record has come in an outlet.
type OutletOfTrace struct {
	Name    string          `json:"name"`
	Kind    plan.OutletKind `json:"kind"`
	Path    string          `json:"path"`
	Spooled bool            `json:"spooled"` // of a store: it is in the spool
	Done    bool            `json:"done"`    // it is written, or confirmed by the store
	Trouble string          `json:"trouble"` // why it waits
}
