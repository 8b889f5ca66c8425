// Package client speaks to the service: for the agent, which sends, and for
// the commands, which read. The types of the interface are here.
package client

import (
	"encoding/json"
	"time"
)

// BatchHead is what an agent says of a batch beside its block.
type BatchHead struct {
	First uint64 `json:"first"`
	Last  uint64 `json:"last"`
	Shed  [8]int `json:"shed"` // by severity
	Lost  int    `json:"lost"`
	Hash  string `json:"hash"` // SHA-256 of the block, in hexadecimal
}

// BatchHeader is the header of HTTP that holds a BatchHead, as JSON.
const BatchHeader = "Oakbarrel-Batch"

// Confirmed answers a batch.
type Confirmed struct {
	Confirmed uint64 `json:"confirmed"` // the last number of the feed that is committed
}

// AgentStatus is what an agent says of itself.
type AgentStatus struct {
	Host     string          `json:"host"`
	PlanHash string          `json:"plan_hash"`
	Held     int64           `json:"held"`
	Status   json.RawMessage `json:"status"`
}

// Cask is a named collection in the store.
type Cask struct {
	Name    string     `json:"name"`
	Records int64      `json:"records"`
	Bytes   int64      `json:"bytes"` // as it is kept, compressed
	First   *time.Time `json:"first"`
	Last    *time.Time `json:"last"`
}

// Host is an agent that the service has heard.
type Host struct {
	Name      string    `json:"name"`
	AgentID   string    `json:"agent_id"`
	LastHeard time.Time `json:"last_heard"`
	PlanHash  string    `json:"plan_hash"`
	Held      int64     `json:"held"`
}

// Counts answers a count.
type Counts struct {
	Total int64   `json:"total"`
	By    []Count `json:"by"`
}

// Count is how many records have a key.
type Count struct {
	Key   string `json:"key"`
	Count int64  `json:"count"`
}

// Problem is an error as the service tells it, RFC 9457.
type Problem struct {
	Title    string `json:"title"`
	Status   int    `json:"status"`
	Detail   string `json:"detail"`
	Mend     string `json:"mend,omitempty"`
	Expected uint64 `json:"expected,omitempty"` // number of the feed, with status 409
}

func (p *Problem) Error() string {
	if p.Mend != "" {
		return p.Detail + "; " + p.Mend
	}
	return p.Detail
}
