package agent

import (
	"os"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/disk"
	"oakbarrel/core/forecast"
	"oakbarrel/core/plan"
)

// Status is what a running agent says of itself.
type Status struct {
	AgentID    string            `json:"agent_id"`
	Host       string            `json:"host"`
	PID        int               `json:"pid"`
	Since      time.Time         `json:"since"` // counters count from here
	Plan       PlanStatus        `json:"plan"`
	Intakes    []IntakeStatus    `json:"intakes"`
	Rules      balance.Rules     `json:"rules"`
	Outlets    []OutletStatus    `json:"outlets"`
	Tended     []TendedFile      `json:"tended"`     // files that others write
	Followed   []FollowedFile    `json:"followed"`   // at most 100, the furthest behind first
	Forecast   forecast.Report   `json:"forecast"`   // of the files; made anew each ten seconds
	Containers []ContainerStatus `json:"containers"` // at most 100, those that need attention first
	Details    []Detail          `json:"details"`    // the detail windows that are open
	Told       []Told            `json:"told"`       // what persons were told last, the newest first
	Damaged    []Damage          `json:"damaged"`    // files of the state folder that were found damaged in this run
	Memory     MemoryStatus      `json:"memory"`
	Faults     []Fault           `json:"faults"` // parts of the agent that have failed in this run
	Balance    balance.Result    `json:"balance"`
}

// PlanStatus tells which plan is in force.
type PlanStatus struct {
	File          string    `json:"file"`
	Hash          string    `json:"hash"` // SHA-256 of the file as it was read
	ReadAt        time.Time `json:"read_at"`
	ChangedOnDisk bool      `json:"changed_on_disk"` // the file is another one now
	Refused       *Refusal  `json:"refused"`         // the plan that was read last, where it was not taken
}

// IntakeStatus tells how an intake is.
type IntakeStatus struct {
	Name      string   `json:"name"`
	Kind      string   `json:"kind"`
	Addresses []string `json:"addresses"`
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
	Name string `json:"name"`
	Kind string `json:"kind"`
	Path string `json:"path"`
	balance.Outlet
	Files        int        `json:"files"` // sets, of a file outlet
	LiveBytes    int64      `json:"live_bytes"`
	Pieces       int        `json:"pieces"`
	PieceBytes   int64      `json:"piece_bytes"`
	Paths        []string   `json:"paths"`       // of the live files of a file outlet, at most 100
	TallyLines   int        `json:"tally_lines"` // where there is one set
	TallyHash    string     `json:"tally_hash"`  // of the last line, "" for none
	TallyTail    []string   `json:"tally_tail"`  // the hashes of its last lines, at most 20
	LastWrite    *time.Time `json:"last_write"`
	Trouble      string     `json:"trouble"` // why it cannot write, "" where it can
	TroubleSince *time.Time `json:"trouble_since"`
	HeldSince    *time.Time `json:"held_since"` // when the oldest record that waits came
	NextTry      *time.Time `json:"next_try"`   // of sending, where something is in the way
	Leaving      bool       `json:"leaving"`    // no longer in the plan, writing down what it holds
}

// status reads all counters between two batches.
func (a *Agent) status() Status {
	onDisk := fileHash(a.options.PlanFile) // before the lock, which holds up the intakes
	memory := a.memory.status()
	followed, boxes := worst(a.followed()), a.containerStatus()
	a.mu.Lock()
	defer a.mu.Unlock()
	s := Status{
		AgentID: a.state.id, Host: a.host(), PID: os.Getpid(), Since: a.since,
		Plan:    PlanStatus{File: a.plan.File, Hash: a.plan.Hash(), ReadAt: a.readAt, ChangedOnDisk: onDisk != a.plan.Hash(), Refused: a.refused},
		Intakes: []IntakeStatus{}, Outlets: []OutletStatus{}, Tended: append([]TendedFile{}, a.tended...), Followed: followed, Containers: boxes[:min(len(boxes), mostFollowed)], Forecast: a.forecast, Details: append([]Detail{}, a.details...), Told: a.told.list(), Memory: memory, Damaged: a.state.found(), Faults: a.faults.list(),
		Rules: balance.Rules{In: a.in.Load(), Routed: a.routed.Load(), Dropped: a.dropped.Load(), Limited: a.limited.Load(), Folded: a.folded.Load()},
	}
	account := balance.Account{Rules: s.Rules, Intakes: []balance.Intake{a.gone}}
	for _, in := range a.intakes {
		s.Intakes = append(s.Intakes, a.intakeStatus(in, false))
	}
	for _, in := range a.leaving {
		s.Intakes = append(s.Intakes, a.intakeStatus(in, true))
	}
	for _, in := range []*intake{a.ordered, a.repeats} {
		if in != nil {
			s.Intakes = append(s.Intakes, a.intakeStatus(in, false))
		}
	}
	for _, o := range a.outlets {
		s.Outlets = append(s.Outlets, o.status(false))
	}
	for _, o := range a.departed {
		s.Outlets = append(s.Outlets, o.status(true))
	}
	for _, in := range s.Intakes {
		account.Intakes = append(account.Intakes, in.Intake)
	}
	for _, o := range s.Outlets {
		account.Outlets = append(account.Outlets, o.Outlet)
	}
	s.Balance = account.Check()
	return s
}

// fileHash returns the hash of the plan in a file, "" where it cannot be read.
func fileHash(path string) string {
	source, err := disk.ReadSmall(path, 1<<20)
	if err != nil {
		return ""
	}
	return plan.Hash(source)
}

func (a *Agent) intakeStatus(in *intake, leaving bool) IntakeStatus {
	s := IntakeStatus{
		Name: in.settings.Name, Kind: in.settings.Kind, Addresses: []string{}, Intake: in.account(),
		Unparsed: in.unparsed.Load(), Cut: in.cut.Load(), TurnedAway: in.turnedAway.Load(), Leaving: leaving,
	}
	for _, key := range keysOf(in.settings) {
		e := a.endpoints[key]
		if e == nil || e.owner() != in {
			continue
		}
		s.Addresses = append(s.Addresses, e.bound())
		if stream, ok := e.(*streamEndpoint); ok {
			s.Connections += stream.connections()
		}
		if files, ok := e.(*followEndpoint); ok {
			s.Trouble = files.follower.Trouble()
		}
	}
	if last := in.last.Load(); last > 0 {
		at := time.Unix(0, last)
		s.LastRecord = &at
	}
	return s
}

// mostPaths bounds the list of paths in a status.
const mostPaths = 100

func (o *fileOutlet) status(leaving bool) OutletStatus {
	o.mu.Lock()
	sets := append([]*fileSet(nil), o.order...)
	s := OutletStatus{Name: o.settings.Name, Kind: "file", Path: o.path, Files: len(sets), Trouble: o.trouble, Leaving: leaving}
	if !o.lastWrite.IsZero() {
		at := o.lastWrite
		s.LastWrite = &at
	}
	if o.trouble != "" {
		at := o.troubleSince
		s.TroubleSince = &at
	}
	o.mu.Unlock()
	s.Outlet = o.snapshot()
	for _, set := range sets {
		pieces, live := set.writer.Pieces()
		s.LiveBytes += live
		s.Pieces += len(pieces)
		for _, p := range pieces {
			s.PieceBytes += p.Size
		}
		if len(s.Paths) < mostPaths {
			s.Paths = append(s.Paths, set.path)
		}
		if len(sets) == 1 {
			s.TallyLines, s.TallyHash = set.writer.Tally()
			s.TallyTail = set.writer.TallyTail()
		}
	}
	return s
}
