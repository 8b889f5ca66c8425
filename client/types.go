// Package client speaks to the service: for the agent, which sends, and for the
// commands, which read. The types of the service's interface are here, and what an
// agent says of itself ([Status]): agent, service, commands and console all use these.
//
// A [Client] may be used by several goroutines at a time. Where the service has several
// addresses it tries the next when one cannot be reached. An error is a [Problem] where
// the service has answered with one, and a [RetryLater] where it is worth coming again.
package client

import (
	"encoding/json"
	"time"

	"oakbarrel/core/plan"
	"oakbarrel/core/roll"
	"oakbarrel/core/spool"
)

// NoAgent is the id of no agent: a token is looked at with it, and is bound to nobody.
const NoAgent = "00000000000000000000000000000000"

// Imported is the generation of feeds of files, which are of no agent.
const Imported = "import"

// BatchHead is what an agent says of a batch beside its block.
type BatchHead struct {
	spool.Numbers
	Generation string `json:"-"`                     // of the feed
	Refused    int    `json:"refused"`               // by the store, as they cannot be taken
	Hash       string `json:"hash"`                  // SHA-256 of the block, in hexadecimal
	Run        string `json:"run,omitempty"`         // that has the lease of the feed
	Previous   string `json:"previous,omitempty"`    // the link of the batch before
	Twice      bool   `json:"maybe_twice,omitempty"` // its records may be there already, as a copy of the agent's folder held them too
}

// BatchHeader is the header of HTTP that holds a BatchHead, as JSON.
const BatchHeader = "Oakbarrel-Batch"

// Confirmed answers a batch.
type Confirmed struct {
	Confirmed uint64      `json:"confirmed"` // the last number of the feed that is committed
	Link      string      `json:"link"`      // of the batch that it ends with
	Account   FeedAccount `json:"account"`   // of the feed
}

// MostStatus bounds the status of an agent, in bytes as JSON.
const MostStatus = 256 << 10

// AgentStatus is what an agent says of itself.
type AgentStatus struct {
	_        struct{} `additionalProperties:"true"` // newer agents may tell more
	Host     string   `json:"host" maxLength:"255"`
	PlanHash string   `json:"plan_hash" maxLength:"64"`
	Held     int64    `json:"held"`   // records that wait for delivery
	Status   any      `json:"status"` // as the agent's status command has it
}

// StatusTaken answers a status.
type StatusTaken struct {
	WantsPlan bool `json:"wants_plan"` // the service does not have the plan in force
}

// AgentPlan is the plan that an agent has in force.
type AgentPlan struct {
	Hash string `json:"hash" maxLength:"64"` // SHA-256 of the text, in hexadecimal
	Text string `json:"text"`
}

// Order is what a person wants an agent to do.
type Order struct {
	ID uint64 `json:"id"`
	NewOrder
	By      string     `json:"by"`                  // the account that gave it
	Text    string     `json:"plan_text,omitempty"` // of the plan to take, with the values of the host
	Created time.Time  `json:"created"`
	Done    *time.Time `json:"done"`
	Outcome Outcome    `json:"outcome"`
}

// OrderKind is what an order has an agent do.
type OrderKind string

// The kinds of orders.
const (
	TestRecord  OrderKind = "test_record"  // pass a test record through the rules
	DetailOpen  OrderKind = "detail_open"  // open the detail window of a rule
	DetailClose OrderKind = "detail_close" // close it
	RollFiles   OrderKind = "roll"         // roll an outlet's files
	TellPieces  OrderKind = "pieces"       // tell of the pieces of a rolled set
	LastLines   OrderKind = "last_lines"   // tell its last lines
	VerifySet   OrderKind = "verify"       // tell how it stands to its tally
	SayAgain    OrderKind = "say_again"    // of no number: tell how the agent is, which the service does not know
	TakePlan    OrderKind = "take_plan"    // put a plan of the service in force, and judge it for a while
	JudgePlan   OrderKind = "judge_plan"   // tell what would be wrong with it here, and take nothing
)

// NewOrder gives an order.
type NewOrder struct {
	Kind    OrderKind `json:"kind" enum:"test_record,detail_open,detail_close,roll,pieces,last_lines,verify"`
	Outlet  string    `json:"outlet,omitempty" maxLength:"64"`               // or tend, to roll; "" for all outlets
	Path    string    `json:"path,omitempty" maxLength:"4096"`               // of the live file of a set
	Rule    string    `json:"rule,omitempty" maxLength:"256"`                // of the window
	To      string    `json:"to,omitempty" maxLength:"16"`                   // the severity of the window
	Seconds int       `json:"seconds,omitempty" minimum:"0" maximum:"86400"` // how long the window is open, or a plan is judged

	Plan     string `json:"plan,omitempty" maxLength:"64"` // of the service, to take; "" for none
	Revision int    `json:"revision,omitempty"`
}

// Outcome is what came of an order.
type Outcome struct {
	_      struct{} `additionalProperties:"true"`
	Text   string   `json:"text,omitempty"`    // of the test record
	GoesTo []string `json:"goes_to,omitempty"` // the outlets that the rules gave it to
	Hops   []Hop    `json:"hops,omitempty"`    // of the test record

	Rolled  []RolledSet   `json:"rolled,omitempty"`
	Pieces  []Piece       `json:"pieces,omitempty"` // the newest first, at most 100
	Lines   []string      `json:"lines,omitempty"`  // the last of a set, clipped
	Verdict *roll.Verdict `json:"verdict,omitempty"`

	Findings []string `json:"findings,omitempty"` // of a plan that was to be taken or judged

	Why string `json:"why,omitempty"` // it could not be done
}

// Hop is a station that a traced record has come to, or where it has stopped.
type Hop struct {
	Hop    string  `json:"hop" enum:"sent,taken in,rules,written,spooled,confirmed,found"`
	Outlet string  `json:"outlet,omitempty"`
	Ms     float64 `json:"ms"` // since it was sent
	Done   bool    `json:"done"`
	Detail string  `json:"detail"` // where it is, or why it stopped
}

// RolledSet is what came of rolling a set.
type RolledSet struct {
	Outlet string `json:"outlet"` // or tend
	Path   string `json:"path"`   // of the live file
	Rolled bool   `json:"rolled"`
	Piece  string `json:"piece"` // the path of the new piece
	Why    string `json:"why"`   // it was not rolled
}

// Piece is a closed file of a rolled set.
type Piece struct {
	Name    string     `json:"name"`
	Size    int64      `json:"size"`  // bytes on disk
	Bytes   int64      `json:"bytes"` // uncompressed, 0 where the tally does not tell
	Records int64      `json:"records"`
	Rolled  time.Time  `json:"rolled"`
	First   *time.Time `json:"first"` // the times of its first and its last record
	Last    *time.Time `json:"last"`
	Tallied bool       `json:"tallied"` // it has a line in the tally
}

// SignIn is a name and its password.
type SignIn struct {
	Name     string `json:"name" maxLength:"64"`
	Password string `json:"password" maxLength:"72"`
}

// Account is who has signed in.
type Account struct {
	Name string `json:"name"`
	Role string `json:"role" enum:"viewer,operator,admin"`
}

// NewToken asks for a token.
type NewToken struct {
	Cask  string `json:"cask" pattern:"^([A-Za-z0-9._-]{1,64}|[*])$" doc:"the name of a cask, which is made where it is new; * for every one"`
	May   string `json:"may" enum:"read,write,import,admin"`
	Label string `json:"label" maxLength:"128"`
}

// Token is a token that was made. It is not shown again.
type Token struct {
	Token string `json:"token"`
	NewToken
}

// Cask is a named collection in the store.
type Cask struct {
	Name    string     `json:"name"`
	Records int64      `json:"records"`
	Bytes   int64      `json:"bytes"` // as it is kept, compressed
	First   *time.Time `json:"first"`
	Last    *time.Time `json:"last"`
	Retention
	BytesPerDay int64  `json:"bytes_per_day"` // that came, over the last week
	WillReach   *int64 `json:"will_reach"`    // bytes, as it grows now; null for without bound

	Shelf   string   `json:"shelf,omitempty"`   // where its new feeds go, "" for the one with the most room
	Missing []string `json:"missing,omitempty"` // shelves that are away: what they have is not counted
}

// Retention says for how long a cask keeps its records. 0 stands for no bound.
type Retention struct {
	KeepDays   int   `json:"keep_days"`    // since they came
	KeepTotal  int64 `json:"keep_total"`   // bytes
	Held       bool  `json:"held"`         // nothing is removed, but for DaysAtMost
	DaysAtMost int   `json:"days_at_most"` // overrides all
}

// SetRetention changes what is not null.
type SetRetention struct {
	KeepDays   *int    `json:"keep_days,omitempty" minimum:"0" maximum:"36500"`
	KeepTotal  *int64  `json:"keep_total,omitempty" minimum:"0"`
	Held       *bool   `json:"held,omitempty"`
	DaysAtMost *int    `json:"days_at_most,omitempty" minimum:"0" maximum:"36500"`
	Shelf      *string `json:"shelf,omitempty"` // where new feeds of the cask go, "" for the one with the most room
}

// CaskAndFeeds is a cask with the feeds that flow into it.
type CaskAndFeeds struct {
	Cask
	Feeds []Feed `json:"feeds"`
}

// Feed is the ordered flow of records from one outlet of one agent, as far as a cask has it.
type Feed struct {
	Host         string     `json:"host"`   // as the agent says
	Sender       string     `json:"sender"` // the label of its token: who it is known to be
	AgentID      string     `json:"agent_id"`
	Outlet       string     `json:"outlet"`
	Confirmed    uint64     `json:"confirmed"` // the last number
	Records      int64      `json:"records"`
	Shed         int64      `json:"shed"`        // by the agent, as its spool was full
	Lost         int64      `json:"lost"`        // declared by the agent
	Refused      int64      `json:"refused"`     // by the store
	Twice        int64      `json:"maybe_twice"` // of the records: a copy of the agent's folder held them too
	Generation   string     `json:"generation"`  // random, "" for the first; import for files
	First        *time.Time `json:"first"`
	Last         *time.Time `json:"last"`
	Arrived      *time.Time `json:"arrived"`       // the last batch
	DelaySeconds float64    `json:"delay_seconds"` // of its last record, from its time to its arrival
}

// Invite asks for an invitation.
type Invite struct {
	Cask    string            `json:"cask" pattern:"^[A-Za-z0-9._-]{1,64}$" doc:"the name of a cask, which is made where it is new"`
	Label   string            `json:"label,omitempty" maxLength:"128" doc:"by which the host is known; its own name where it is missing"`
	Minutes int               `json:"minutes" minimum:"1" maximum:"43200" doc:"for which it may be accepted"`
	Labels  map[string]string `json:"labels,omitempty" doc:"that the hosts get"`
	Uses    int               `json:"uses,omitempty" minimum:"1" maximum:"10000" default:"1" doc:"how many agents may accept it"`
}

// Invitation is an invitation that was made. Its code is not shown again.
type Invitation struct {
	Code        string    `json:"code"`
	Ends        time.Time `json:"ends"`
	Fingerprint string    `json:"fingerprint"` // of the service's certificate, "" without https
}

// Accept uses an invitation up.
type Accept struct {
	Code    string `json:"code" maxLength:"100"`
	AgentID string `json:"agent_id" pattern:"^[0-9a-f]{32}$"`
	Host    string `json:"host" maxLength:"255"`
}

// Accepted is what an agent gets for an invitation.
type Accepted struct {
	Token string `json:"token"`
	Cask  string `json:"cask"`
	Label string `json:"label"`
}

// Revoked tells how many tokens were taken away.
type Revoked struct {
	Tokens int64 `json:"tokens"`
}

// Replace lets an agent come with another token.
type Replace struct {
	Minutes int `json:"minutes" minimum:"1" maximum:"43200" doc:"for which the other token may come"`
}

// View is a search that somebody has kept, for themselves or for all.
type View struct {
	Name  string `json:"name" minLength:"1" maxLength:"64"`
	Cask  string `json:"cask,omitempty" maxLength:"64"` // "" for every one
	Since string `json:"since" pattern:"^([0-9]+[smhd])?$" doc:"how long ago, such as 1h"`
	Where string `json:"where,omitempty" maxLength:"10000"`
	By    string `json:"by,omitempty" readOnly:"true"` // who kept it

	Shared bool `json:"shared,omitempty"` // for all; it takes an operator
}

// Act is what somebody did or read.
type Act struct {
	ID     uint64    `json:"id"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	What   string    `json:"what"`
	Detail string    `json:"detail"`
}

// Host is an agent that the service has heard.
type Host struct {
	Name      string    `json:"name"`
	AgentID   string    `json:"agent_id"`
	LastHeard time.Time `json:"last_heard"`
	PlanHash  string    `json:"plan_hash"`
	Held      int64     `json:"held"`
}

// HostStatus is an agent that the service has heard, and what it says of itself.
type HostStatus struct {
	Host
	Status       Status         `json:"status"`
	TallyTrouble []TallyTrouble `json:"tally_trouble"`
}

// TallyTrouble says that a tally is not what the agent told of it before.
type TallyTrouble struct {
	Path string    `json:"path"` // of the live file
	What string    `json:"what"`
	At   time.Time `json:"at"` // when the service saw it
}

// Counts answers a count.
type Counts struct {
	Total  int64   `json:"total"`
	By     []Count `json:"by"`
	Others int64   `json:"others,omitempty"` // of values that are not among those

	Missing []string `json:"missing,omitempty"` // shelves that are away: what they have is not counted
}

// Shapes answers what kinds of messages there are.
type Shapes struct {
	Total  int64      `json:"total"`  // records of the span
	Before int64      `json:"before"` // of the span before, which is as long
	Shapes []ShapeOf  `json:"shapes"`
	More   MoreShapes `json:"more"`

	Missing []string `json:"missing,omitempty"` // shelves that are away: what they have is not counted
}

// ShapeOf is what is told of the records whose texts have one shape: the text with its numbers
// and names left out.
type ShapeOf struct {
	Shape     string     `json:"shape"`
	What      string     `json:"what,omitempty" enum:"new,risen,fallen,ceased"` // what is remarkable about it
	Records   int64      `json:"records"`
	Before    int64      `json:"before"`   // in the span before
	Severity  string     `json:"severity"` // the worst, "" where there are none in the span
	Worst     int64      `json:"worst"`    // records of that severity
	HostCount int        `json:"host_count"`
	Hosts     []Count    `json:"hosts"` // those with the most
	Apps      []Count    `json:"apps"`  // likewise
	First     *time.Time `json:"first"` // of the span
	Last      *time.Time `json:"last"`
	Since     *time.Time `json:"since"`  // when there was the first record of it ever
	Course    []int64    `json:"course"` // records in equal parts of the span
}

// MoreShapes are those that are not told one by one.
type MoreShapes struct {
	Shapes  int   `json:"shapes"`
	Records int64 `json:"records"`
}

// Shelf is a database, or a cluster, that the store is spread over.
type Shelf struct {
	Name  string `json:"name"`
	State string `json:"state"` // "in use", "drains", "drained" or "away"
	Feeds int64  `json:"feeds"` // that live on it
	Bytes int64  `json:"bytes"` // of its tables, 0 where it is away
	Size  int64  `json:"size"`  // bytes that it is meant to hold
}

// Placed is a record and its place in the store.
type Placed struct {
	Place  string          `json:"place"`
	Record json.RawMessage `json:"record"` // as read has it
}

// NeighboursOf says which neighbours of a record are wanted: "" for any host, and any agent.
type NeighboursOf struct {
	Cask, Host, Agent string
	Place             string
	Each              int // before it, and after it: 1 to 1000
}

// Neighbours is what came before and after a record, the oldest first.
type Neighbours struct {
	Before  []Placed `json:"before"`
	After   []Placed `json:"after"`
	Missing []string `json:"missing,omitempty"` // shelves that are away
}

// Count is how many records have a key.
type Count struct {
	Key   string `json:"key"`
	Count int64  `json:"count"`
}

// Problem is an error as the service tells it, in problem details (RFC 9457).
type Problem struct {
	Title    string `json:"title"`
	Status   int    `json:"status"`
	Detail   string `json:"detail"`
	Mend     string `json:"mend,omitempty"`
	Expected uint64 `json:"expected,omitempty"` // number of the feed, with status 409
	Lease    bool   `json:"lease,omitempty"`    // with status 409: the run does not have the lease of the feed
	Join     bool   `json:"join,omitempty"`     // with status 403: the token is that of another agent; this one can ask to be let in
	Fault    bool   `json:"fault,omitempty"`    // with status 500: what was sent makes the service fail
}

func (p *Problem) Error() string {
	if p.Mend != "" {
		return p.Detail + "; " + p.Mend
	}
	return p.Detail
}

// GetStatus returns the status of the answer.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType returns the media type of problem details.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// PlanText is a plan as it is written.
type PlanText struct {
	Text string `json:"text"`
}

// CheckedPlan is what is wrong in a plan, and where its records can go.
type CheckedPlan struct {
	Findings []Finding   `json:"findings"`
	Outlets  []string    `json:"outlets"`
	Rules    []string    `json:"rules"`
	About    []string    `json:"about"` // of each rule, a digit for each priority: 0 it never matches, 1 maybe, 2 always
	Cells    []plan.Cell `json:"cells"` // as plan matrix tells them; none where the plan has errors
}

// Finding is something wrong in a plan.
type Finding struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Kind   string `json:"kind" enum:"error,warning"`
	What   string `json:"what"`
	Mend   string `json:"mend"`
}

// ExplainPlan asks what a plan does with a message, or with a record.
type ExplainPlan struct {
	Text   string         `json:"text"`
	Line   string         `json:"line,omitempty"`   // a syslog message, or a line
	Intake string         `json:"intake,omitempty"` // that reads it, "" to read it as a syslog message
	Record map[string]any `json:"record,omitempty"` // instead
}

// ComparePlans asks what another plan would do with what a cask holds.
type ComparePlans struct {
	Old   string `json:"old"`
	New   string `json:"new"`
	Cask  string `json:"cask,omitempty"`
	Since string `json:"since,omitempty" format:"date-time"`
	Until string `json:"until,omitempty" format:"date-time"`
	Where string `json:"where,omitempty"`
	Limit int    `json:"limit,omitempty" minimum:"1" maximum:"1000000" default:"50000"`
}
