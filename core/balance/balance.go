// Package balance keeps the account of every hop: what went in is what went
// out, was dropped, shed or refused, or is held. It depends on nothing.
package balance

// Intake is the account of a way in: Read = Passed + Unreadable + Limited.
type Intake struct {
	Read       int64 `json:"read"`
	Passed     int64 `json:"passed"`     // given to the rules
	Unreadable int64 `json:"unreadable"` // could not be made a record
	Limited    int64 `json:"limited"`    // given up because a sender sent too many
	Missed     int64 `json:"missed"`     // dropped by the kernel before we could read it; beside the account
}

// Difference is 0 where the account closes.
func (i Intake) Difference() int64 { return i.Read - i.Passed - i.Unreadable - i.Limited }

// Rules is the account of the rules: In = Routed + Dropped.
type Rules struct {
	In      int64 `json:"in"`
	Routed  int64 `json:"routed"`  // to at least one outlet
	Dropped int64 `json:"dropped"` // on purpose, by a rule or by otherwise
	Limited int64 `json:"limited"` // of those dropped: by the limit of a rule
	Folded  int64 `json:"folded"`  // likewise: as repeats, which a record at the end tells of
}

// Difference is 0 where the account closes.
func (r Rules) Difference() int64 { return r.In - r.Routed - r.Dropped }

// Outlet is the account of a way out: In + HeldAtStart = Out + Shed + Refused + Held.
type Outlet struct {
	In          int64 `json:"in"`
	HeldAtStart int64 `json:"held_at_start"`
	Out         int64 `json:"out"`     // written or delivered
	Shed        int64 `json:"shed"`    // given up because the outlet was full
	Refused     int64 `json:"refused"` // by the receiver, for good
	Held        int64 `json:"held"`    // waiting
}

// Difference is 0 where the account closes.
func (o Outlet) Difference() int64 { return o.In + o.HeldAtStart - o.Out - o.Shed - o.Refused - o.Held }

// Account is one agent's, read between two batches.
type Account struct {
	Intakes []Intake
	Rules   Rules
	Outlets []Outlet
}

// Result says whether an account closes.
type Result struct {
	Closes     bool  `json:"closes"`
	Difference int64 `json:"difference"` // records, the sum of all hops without their signs
}

// Check adds up the differences of every hop, and of what the intakes passed
// against what came to the rules.
func (a Account) Check() Result {
	var sum, passed int64
	for _, i := range a.Intakes {
		sum += abs(i.Difference())
		passed += i.Passed
	}
	sum += abs(a.Rules.Difference()) + abs(passed-a.Rules.In)
	for _, o := range a.Outlets {
		sum += abs(o.Difference())
	}
	return Result{sum == 0, sum}
}

func abs(n int64) int64 {
	if n < 0 {
		return -n
	}
	return n
}
