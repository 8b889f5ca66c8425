package client

import (
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/container"
	"oakbarrel/core/delay"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
	"oakbarrel/core/route"
	"oakbarrel/core/tail"
)

// Status is what a running agent says of itself.
type Status struct {
	AgentID    string            `json:"agent_id"`
	Host       string            `json:"host"`
	System     string            `json:"system"` // linux or windows
	Version    Version           `json:"version"`
	PID        int               `json:"pid"`
	Since      time.Time         `json:"since"` // counters count from here
	Plan       PlanStatus        `json:"plan"`
	Intakes    []IntakeStatus    `json:"intakes"`
	Rules      balance.Rules     `json:"rules"`
	Matched    []route.Matched   `json:"matched"` // by each rule, in their order, and at the end by otherwise; at most 500
	Outlets    []OutletStatus    `json:"outlets"`
	Tended     []TendedFile      `json:"tended"`     // files that others write
	Followed   []FollowedFile    `json:"followed"`   // at most 100, the furthest behind first
	Forecast   forecast.Report   `json:"forecast"`   // of the files; made anew each ten seconds
	Containers []ContainerStatus `json:"containers"` // at most 100, those that need attention first
	Details    []Detail          `json:"details"`    // the detail windows that are open
	Pauses     []Pause           `json:"pauses"`     // outlets and rules that are switched off for a while
	Told       []Told            `json:"told"`       // what persons were told last, the newest first
	Forks      []ForkStatus      `json:"forks"`      // what was found of copies of the state folder, at most 20, the newest first
	Damaged    []Damage          `json:"damaged"`    // files of the state folder that were found damaged in this run
	Memory     MemoryStatus      `json:"memory"`
	Metrics    *MetricsStatus    `json:"metrics"` // null where the plan does not say that figures are served
	Faults     []Fault           `json:"faults"`  // parts of the agent that have failed in this run
	Balance    balance.Result    `json:"balance"`
}

// ForkStatus tells that a state folder was found to be a copy of another agent's, or
// to be set back to an older copy of itself.
type ForkStatus struct {
	At     time.Time `json:"at"`
	Outlet string    `json:"outlet"` // "" where it was seen before anything was sent
	What   string    `json:"what"`
	Was    string    `json:"was"`  // the id that the agent had before, "" where it keeps it
	Mend   string    `json:"mend"` // "" where nothing is to be done
}

// PlanStatus tells which plan is in force.
type PlanStatus struct {
	File          string    `json:"file"`
	Hash          string    `json:"hash"` // SHA-256 of the file as it was read
	ReadAt        time.Time `json:"read_at"`
	ChangedOnDisk bool      `json:"changed_on_disk"` // the file is another one now
	Refused       *Refusal  `json:"refused"`         // the plan that was read last, where it was not taken

	Served *ServedPlan       `json:"served"` // null where the host keeps a plan of its own
	Labels map[string]string `json:"labels"` // that the host gives itself
	Values map[string]string `json:"values"` // likewise, where the plan is served
}

// ServedPlan tells which plan of the service is in force, and how it stands with the one
// that came last.
type ServedPlan struct {
	Plan     string      `json:"plan"` // "" for none yet
	Revision int         `json:"revision"`
	Hash     string      `json:"hash"` // SHA-256 of what was served, "" for none
	State    ServedState `json:"state"`
	Until    *time.Time  `json:"until"` // judged, null where it is not
	Tried    string      `json:"tried"` // the plan that was not kept
	TriedAt  int         `json:"tried_revision"`
	Why      string      `json:"why"`    // it was not kept
	Order    uint64      `json:"order"`  // that had it taken last
	Bounds   string      `json:"bounds"` // the file that says what a served plan may do here
}

// ServedState is how far a plan of the service has come on a host.
type ServedState string

// The states.
const (
	NoPlan    ServedState = "none"
	Judged    ServedState = "judged"     // in force, and not yet for good
	Kept      ServedState = "kept"       // in force for good
	TakenBack ServedState = "taken_back" // the one before is in force again
)

// Refusal is a plan that was read and not taken.
type Refusal struct {
	At       time.Time `json:"at"`
	Why      string    `json:"why"`
	Findings []string  `json:"findings"`
}

// IntakeStatus tells how an intake is.
type IntakeStatus struct {
	Name      string          `json:"name"`
	Kind      plan.IntakeKind `json:"kind"`
	Addresses []string        `json:"addresses"`
	balance.Intake
	Unparsed    int64      `json:"unparsed"`    // of those passed: the header could not be read
	Cut         int64      `json:"cut"`         // of those passed: longer than allowed
	TurnedAway  int64      `json:"turned_away"` // connections and datagrams that the plan does not let in
	Connections int        `json:"connections"`
	LastRecord  *time.Time `json:"last_record"`
	Trouble     string     `json:"trouble"` // why it does not take all, "" where it does
	Leaving     bool       `json:"leaving"` // no longer in the plan, being read empty
}

// OutletStatus tells how an outlet is.
type OutletStatus struct {
	Name string          `json:"name"`
	Kind plan.OutletKind `json:"kind"`
	Path string          `json:"path"`
	balance.Outlet
	Files        int        `json:"files"` // sets, of a file outlet
	LiveBytes    int64      `json:"live_bytes"`
	Pieces       int        `json:"pieces"`
	PieceBytes   int64      `json:"piece_bytes"`
	Paths        []string   `json:"paths" nullable:"true"`      // of the live files of a file outlet, at most 100
	TallyLines   int        `json:"tally_lines"`                // where there is one set
	TallyHash    string     `json:"tally_hash"`                 // of the last line, "" for none
	TallyTail    []string   `json:"tally_tail" nullable:"true"` // the hashes of its last lines, at most 20
	Rolls        int        `json:"rolls"`                      // of live files, in this run
	Delay        delay.Seen `json:"delay"`                      // from when the oldest record of a write or a batch came until that was written or confirmed
	LastWrite    *time.Time `json:"last_write"`
	Trouble      string     `json:"trouble"` // why it cannot write, "" where it can
	TroubleSince *time.Time `json:"trouble_since"`
	HeldSince    *time.Time `json:"held_since"` // when the oldest record that waits came
	NextTry      *time.Time `json:"next_try"`   // of sending, where something is in the way
	Leaving      bool       `json:"leaving"`    // no longer in the plan, writing down what it holds
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

// FollowedFile tells how far a file is followed.
type FollowedFile struct {
	Intake string `json:"intake"`
	tail.File
	BehindSeconds float64 `json:"behind_seconds"` // how long something stands there that is not read
	CutSeconds    float64 `json:"cut_seconds"`    // before a cut: the longest time in which lines may be lost
}

// ContainerStatus tells how a container's output is taken, and what needs attention.
type ContainerStatus struct {
	Intake  string `json:"intake"`
	Name    string `json:"name"`
	ID      string `json:"id"`
	Image   string `json:"image"`
	Pod     string `json:"pod"`
	Running bool   `json:"running"`
	Read    bool   `json:"read"` // its output is taken
	Why     string `json:"why"`  // it is not
	// Records a minute, over the last minute.
	Stdout float64 `json:"stdout_per_minute"`
	Stderr float64 `json:"stderr_per_minute"`

	Driver string             `json:"log_driver"`
	Advice []container.Advice `json:"advice"`

	LayerBytes  int64             `json:"layer_bytes"`
	LayerGrowth int64             `json:"layer_bytes_per_hour"`
	Growing     []container.Grown `json:"growing"` // since the agent looks, the most first
}

// Detail is a detail window: the threshold of a rule, or what the agent's own log tells at
// least, is lowered for a while.
type Detail struct {
	Rule   string    `json:"rule"` // "" for the agent's own log
	From   string    `json:"from"` // the rule's own threshold
	To     string    `json:"to"`
	Opened time.Time `json:"opened"`
	Until  time.Time `json:"until"`
}

// Pause is an outlet or a rule that is switched off for a while.
type Pause struct {
	Outlet string    `json:"outlet" maxLength:"64"` // "" for a rule
	Rule   string    `json:"rule" maxLength:"255"`  // "" for an outlet
	Drop   bool      `json:"drop"`                  // the outlet sheds what comes, instead of holding it
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until"`
}

// IsOf tells whether another is of the same outlet or rule.
func (p Pause) IsOf(other Pause) bool { return p.Outlet == other.Outlet && p.Rule == other.Rule }

// Told is a notice that a person got.
type Told struct {
	At      time.Time `json:"at"`
	Outlet  string    `json:"outlet"`
	Title   string    `json:"title"`
	Text    string    `json:"text"` // with times in UTC
	Records int64     `json:"records"`
}

// Damage is a file of the state folder that was found damaged, and what it cost.
type Damage struct {
	At    time.Time `json:"at"`
	Part  string    `json:"part"` // that goes on without it: "agent", "intake NAME" or "outlet NAME"
	File  string    `json:"file"`
	Cost  string    `json:"cost"`
	Aside string    `json:"aside"` // where it was put, "" where it could not be
}

// MemoryStatus tells what of its memory the agent has lent to unfinished messages
// and requests.
type MemoryStatus struct {
	Limit      int64 `json:"limit_bytes"`
	Used       int64 `json:"used_bytes"`
	Most       int64 `json:"most_bytes"`  // in this run
	TurnedAway int64 `json:"turned_away"` // connections and requests that found no room
	Heap       int64 `json:"heap_bytes"`  // of the agent, as it is now
}

// MetricsStatus tells where the agent's figures are served.
type MetricsStatus struct {
	Listen  string `json:"listen"`  // HOST:PORT
	Trouble string `json:"trouble"` // why it is not, "" where it is
}

// Fault is what a part of the agent suffered.
type Fault struct {
	Part  string     `json:"part"`  // "intake NAME", "outlet NAME", "tend", "link" or another
	Count int64      `json:"count"` // in this run
	First time.Time  `json:"first"`
	Last  time.Time  `json:"last"`
	What  string     `json:"what"`
	Where string     `json:"where"` // in the code
	Lost  int64      `json:"lost"`  // records that were under way and cannot be read again
	Next  *time.Time `json:"next"`  // when it is begun again, null where it runs
}
