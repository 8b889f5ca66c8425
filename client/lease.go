package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"oakbarrel/core/spool"
)

// Lease asks for the right of a run of an agent to write into a feed.
type Lease struct {
	Run       string      `json:"run" pattern:"^[0-9a-f]{32}$" doc:"random, drawn at each start"`
	First     uint64      `json:"first" doc:"the first number that this run gives out"`
	Confirmed uint64      `json:"confirmed" doc:"the last number that was confirmed to the agent"`
	Base      uint64      `json:"base" doc:"the number before the first of this generation"`
	Runs      []spool.Run `json:"runs" maxItems:"256" doc:"that the agent's folder has had, the newest last"`
	Store     string      `json:"store" maxLength:"32" doc:"the store that the numbers were confirmed by, empty for none"`
	Machine   string      `json:"machine" maxLength:"64" doc:"a hash of what tells machines apart"`
	Older     []Older     `json:"older,omitempty" maxItems:"32" doc:"generations of the feed before this one, and how far they were confirmed"`
	Look      bool        `json:"look,omitempty" doc:"compare alone, and give nothing"`
}

// Older is a generation of a feed that ended with a number.
type Older struct {
	Generation string `json:"generation" pattern:"^([0-9a-f]{32})?$"`
	Base       uint64 `json:"base"`
	Last       uint64 `json:"last"`
}

// Gone are numbers that the store had confirmed and does not have any more.
type Gone struct {
	Generation string `json:"generation"`
	First      uint64 `json:"first"`
	Last       uint64 `json:"last"`
}

// Leased answers a lease.
type Leased struct {
	Store     string      `json:"store"`     // what tells this store apart
	Elsewhere bool        `json:"elsewhere"` // the numbers were confirmed by another store; nothing is given
	Confirmed uint64      `json:"confirmed"` // the last number of the feed that is committed
	Link      string      `json:"link"`      // of the last batch, which the next one names
	Account   FeedAccount `json:"account"`
	Gone      []Gone      `json:"gone,omitempty"` // of the older generations, which is declared lost now
	MostBytes int64       `json:"most_bytes"`     // of a block
	Fork      *Fork       `json:"fork"`           // the folder is not the one that the store knows; nothing is given
}

// Fork says where the numbers of an agent and those of the store part: the agent's
// folder was copied, or set back to an older copy.
type Fork struct {
	Last        uint64    `json:"last"`      // the last number that stands for the same record on both sides
	Held        uint64    `json:"held"`      // up to it the other may have held what this agent holds: it gave out the next one itself
	Confirmed   uint64    `json:"confirmed"` // the last number that is committed, of whichever
	Run         string    `json:"run"`       // that has the lease
	Since       time.Time `json:"since"`     // when the first run came that the agent does not know
	SameMachine bool      `json:"same_machine"`
}

// FeedAccount is what the numbers of a feed have come to.
type FeedAccount struct {
	Base    uint64 `json:"base"` // the number before the first
	Came    int64  `json:"came"`
	Shed    int64  `json:"shed"`
	Lost    int64  `json:"lost"`
	Refused int64  `json:"refused"`
}

// Plus returns the account with what another one adds to it.
func (a FeedAccount) Plus(b FeedAccount) FeedAccount {
	return FeedAccount{Base: a.Base, Came: a.Came + b.Came, Shed: a.Shed + b.Shed, Lost: a.Lost + b.Lost, Refused: a.Refused + b.Refused}
}

// LinkOf returns the link of a batch: the hash of what it is and of the link before.
// Whoever has another batch before it has another link.
func LinkOf(previous string, head BatchHead) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %d %d %s", previous, head.First, head.Last, head.Hash))
	return hex.EncodeToString(sum[:])
}

// Lease asks for the right to write into a feed.
func (c *Client) Lease(ctx context.Context, agentID, outlet, cask, generation string, asks Lease) (answer Leased, err error) {
	err = c.sendTo(ctx, "POST", feedPath(agentID, outlet)+"/lease", feedQuery(cask, generation), asks, &answer)
	return answer, err
}

// Joining is an agent that comes with the token of another one, and waits to be let in.
type Joining struct {
	AgentID string    `json:"agent_id"`
	Host    string    `json:"host"`   // as it claims
	Was     string    `json:"was"`    // the agent whose token it brings
	Sender  string    `json:"sender"` // the label of that token
	Since   time.Time `json:"since"`
}

// Join asks to be let in as an agent, with the token of another one.
type Join struct {
	Host string `json:"host" maxLength:"255"`
}

// Join asks for a token of its own for an agent that has that of another one.
func (c *Client) Join(ctx context.Context, agentID string, j Join) (t Accepted, err error) {
	err = c.send(ctx, "POST", "/api/v1/agents/"+agentID+"/join", j, &t)
	return t, err
}

// Joinings lists the agents that wait to be let in.
func (c *Client) Joinings(ctx context.Context) (waiting []Joining, err error) {
	err = c.json(ctx, "GET", "/api/v1/joinings", nil, nil, nil, &waiting)
	return waiting, err
}

// Adopt lets an agent in that waits.
func (c *Client) Adopt(ctx context.Context, agentID string) error {
	return c.send(ctx, "POST", "/api/v1/agents/"+agentID+"/adopt", struct{}{}, nil)
}
