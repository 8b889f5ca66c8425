package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"
)

// PlanLine is a plan of the service, or a part of plans, by its last revision.
type PlanLine struct {
	Plan     string    `json:"plan"`
	Revision int       `json:"revision"` // the last
	InForce  int       `json:"in_force"` // of the last roll-out, 0 for none
	Hash     string    `json:"hash"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Why      string    `json:"why"`
	Parts    []string  `json:"parts"`
	UsedBy   []string  `json:"used_by"` // the plans that have it as a part
	Hosts    int       `json:"hosts"`   // that are assigned to it
	Takers   int       `json:"takers"`  // of those, that take plans of the service
	Having   int       `json:"having"`  // of those, that have the last revision
}

// PlanRevision is an unchangeable state of a plan.
type PlanRevision struct {
	Plan   string    `json:"plan"`
	Number int       `json:"revision"`
	Hash   string    `json:"hash"` // of the text with its parts
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Why    string    `json:"why"`
	Parts  []PartOf  `json:"parts"`          // which revisions it is made of
	Text   string    `json:"text,omitempty"` // its own
	Whole  string    `json:"whole,omitempty"`
}

// PartOf is a revision of a part.
type PartOf struct {
	Part     string `json:"part"`
	Revision int    `json:"revision"`
}

// NewRevision puts a text in the place of a plan's last one.
type NewRevision struct {
	Text string `json:"text" maxLength:"1048576"`
	Why  string `json:"why" minLength:"1" maxLength:"1000"`
	Base *int   `json:"base,omitempty" doc:"the revision that it was made from, 0 for a new plan; another one at the end is a conflict"`
}

// PutPlan tells what came of a new revision.
type PutPlan struct {
	Plan     string       `json:"plan"`
	Revision int          `json:"revision"`
	Same     bool         `json:"same"`     // it is the last one already
	Also     []PartOf     `json:"also"`     // plans that it is a part of, which have a new revision with it
	Judged   []PlanOnHost `json:"judged"`   // hosts on which it is not in order
	InOrder  int          `json:"in_order"` // hosts on which it is
}

// JudgedPlan tells on which hosts of its assignments a revision is in order.
type JudgedPlan struct {
	Judged   []PlanOnHost `json:"judged"`   // where it is not
	InOrder  int          `json:"in_order"` // how many, where it is
	Findings []Finding    `json:"findings"` // in the text itself, each once
	Silent   []string     `json:"silent"`   // hosts that were asked, and have not answered
}

// PlanDraft is a text that may become a revision.
type PlanDraft struct {
	Text string `json:"text" maxLength:"1048576"`
}

// PlanOnHost tells what is wrong with a plan on a host.
type PlanOnHost struct {
	AgentID  string   `json:"agent_id"`
	Host     string   `json:"host"`
	Findings []string `json:"findings"`
}

// PlanAssignment says which hosts get a plan.
type PlanAssignment struct {
	Name    string    `json:"name" pattern:"^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$"`
	Plan    string    `json:"plan" pattern:"^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$"`
	When    string    `json:"when" maxLength:"4096" doc:"a condition on the labels of hosts"`
	Approve bool      `json:"approve" required:"false" doc:"roll-outs are to be approved by another person"`
	By      string    `json:"by" required:"false"`
	Changed time.Time `json:"changed" required:"false"`
	Hosts   int       `json:"hosts" required:"false" doc:"for which it decides"`
}

// FleetHost is a host as its plans are concerned.
type FleetHost struct {
	AgentID   string            `json:"agent_id"`
	Host      string            `json:"host"`
	Version   string            `json:"version"`
	LastHeard time.Time         `json:"last_heard"`
	Held      int64             `json:"held"`
	Summary   Summary           `json:"summary"` // of what it said last; that it is silent is told too
	Labels    map[string]string `json:"labels"`  // those that the host gives itself are named own/NAME
	Values    map[string]string `json:"values"`  // of its own
	Places    map[string]string `json:"places"`  // what @{NAME} stands for, of its values and labels
	Served    bool              `json:"served"`  // it takes plans of the service
	Plan      string            `json:"plan"`    // that it has in force, "" for none
	Revision  int               `json:"revision"`
	State     ServedState       `json:"state"`

	Assigned   string `json:"assigned"`   // the plan that it is to have, "" for none
	InForce    int    `json:"in_force"`   // the revision of it
	Assignment string `json:"assignment"` // which decides
	Why        string `json:"why"`        // it does
	Drift      string `json:"drift"`      // how the host is other than assigned, "" where it is not
}

// Overview is what there is to see of many hosts.
type Overview struct {
	All   int         `json:"all"`
	Found int         `json:"found"` // of those, that are looked for
	Need  int         `json:"need"`  // of those, that need a person
	Hosts []FleetHost `json:"hosts"` // of those that are found, those that need a person first
}

// SetLabels changes labels and values of a host.
type SetLabels struct {
	Labels map[string]string `json:"labels,omitempty" doc:"an empty text takes one away"`
	Values map[string]string `json:"values,omitempty" doc:"likewise"`
}

// ValueOfLabel is a value of all hosts with a label.
type ValueOfLabel struct {
	Label string `json:"label" maxLength:"32"`
	Of    string `json:"of" maxLength:"64"`
	Name  string `json:"name" maxLength:"64"`
	Text  string `json:"text" maxLength:"1024" doc:"empty to take it away"`
}

// NewRollout begins a roll-out.
type NewRollout struct {
	Plan     string `json:"plan"`
	Revision int    `json:"revision,omitempty" doc:"0 for the last"`
	Waves    string `json:"waves,omitempty" maxLength:"255" doc:"such as 1, 10%, all"`
	Seconds  int    `json:"seconds,omitempty" minimum:"0" maximum:"3600" doc:"for which each host judges the plan"`
	Failures int    `json:"failures,omitempty" minimum:"0" maximum:"100000" doc:"so many hosts that fail have all of it taken back; 0 for one"`
	Why      string `json:"why" minLength:"1" maxLength:"1000"`
}

// RolloutState is how far a roll-out has come.
type RolloutState string

// The states of a roll-out.
const (
	RolloutProposed  RolloutState = "proposed" // waits for another person to approve it
	RolloutRunning   RolloutState = "running"
	RolloutPaused    RolloutState = "paused"
	RolloutGoingBack RolloutState = "going_back"
	RolloutDone      RolloutState = "done"
	RolloutTakenBack RolloutState = "taken_back"
)

// Ended tells whether nothing more comes of it.
func (s RolloutState) Ended() bool { return s == RolloutDone || s == RolloutTakenBack }

// Rollout is a revision on its way to hosts.
type Rollout struct {
	ID       uint64         `json:"id"`
	Plan     string         `json:"plan"`
	Revision int            `json:"revision"`
	State    RolloutState   `json:"state"`
	Note     string         `json:"note"`  // why it is as it is
	Waves    []int          `json:"waves"` // hosts of each
	Wave     int            `json:"wave"`  // that is under way, from 1
	Seconds  int            `json:"seconds"`
	Failures int            `json:"failures"`
	By       string         `json:"by"`
	Approved string         `json:"approved"`
	Why      string         `json:"why"`
	Created  time.Time      `json:"created"`
	Changed  time.Time      `json:"changed"`
	Counts   map[string]int `json:"counts"` // hosts by their state
	Hosts    []RolloutHost  `json:"hosts"`  // empty in a list
}

// RolloutHost is a host of a roll-out.
type RolloutHost struct {
	AgentID string    `json:"agent_id"`
	Host    string    `json:"host"`
	Wave    int       `json:"wave"` // from 1
	State   string    `json:"state" enum:"waiting,ordered,judged,kept,failed,silent,going back,back,away"`
	Why     string    `json:"why"`
	Changed time.Time `json:"changed"`
}

// Plans lists the plans of the service.
func (c *Client) Plans(ctx context.Context) (all []PlanLine, err error) {
	err = c.json(ctx, "GET", "/api/v1/plans", nil, nil, nil, &all)
	return all, err
}

// Plan lists the revisions of a plan, the newest first.
func (c *Client) Plan(ctx context.Context, plan string) (all []PlanRevision, err error) {
	err = c.json(ctx, "GET", "/api/v1/plans/"+url.PathEscape(plan), nil, nil, nil, &all)
	return all, err
}

// Revision returns a revision with its texts; 0 stands for the last one.
func (c *Client) Revision(ctx context.Context, plan string, number int) (r PlanRevision, err error) {
	err = c.json(ctx, "GET", fmt.Sprintf("/api/v1/plans/%s/%d", url.PathEscape(plan), number), nil, nil, nil, &r)
	return r, err
}

// PutPlan makes a new revision of a plan.
func (c *Client) PutPlan(ctx context.Context, plan string, r NewRevision) (put PutPlan, err error) {
	err = c.sendTo(ctx, "PUT", "/api/v1/plans/"+url.PathEscape(plan), nil, r, &put)
	return put, err
}

// JudgePlan tells on which hosts a revision is in order, 0 for the last one.
func (c *Client) JudgePlan(ctx context.Context, plan string, number int) (j JudgedPlan, err error) {
	err = c.json(ctx, "GET", fmt.Sprintf("/api/v1/plans/%s/%d/judge", url.PathEscape(plan), number), nil, nil, nil, &j)
	return j, err
}

// ComparePlan has two revisions judge what the hosts of a plan have sent.
type ComparePlan struct {
	From  int    `json:"from" doc:"the older revision, 0 for none"`
	To    int    `json:"to" doc:"the newer one, 0 for the last"`
	Since string `json:"since" format:"date-time"`
	Limit int    `json:"limit" minimum:"1" maximum:"1000000" doc:"records of each host, the newest"`
}

// ComparedPlan tells what another revision would do on each host.
type ComparedPlan struct {
	Plan     string         `json:"plan"`
	From     int            `json:"from"`
	To       int            `json:"to"`
	Hosts    []ComparedHost `json:"hosts"`
	Together ComparedHost   `json:"together"` // of all hosts; a day's bytes of those where they can be told
}

// ComparedHost is one host of it.
type ComparedHost struct {
	AgentID      string `json:"agent_id"`
	Host         string `json:"host"`
	Records      int    `json:"records"`
	Same         int    `json:"same"`
	Moved        int    `json:"moved"`
	NoLongerKept int    `json:"no_longer_kept"`
	NewlyKept    int    `json:"newly_kept"`
	OldBytesDay  *int64 `json:"old_bytes_a_day"` // null where the sample is too short to tell
	NewBytesDay  *int64 `json:"new_bytes_a_day"`
	OldAtMost    *int64 `json:"old_bytes_at_most"` // of sets and spools, null where nothing bounds them
	NewAtMost    *int64 `json:"new_bytes_at_most"`
}

// ComparePlan has two revisions judge what the hosts of a plan have sent.
func (c *Client) ComparePlan(ctx context.Context, plan string, q ComparePlan) (all ComparedPlan, err error) {
	err = c.sendTo(ctx, "POST", "/api/v1/plans/"+url.PathEscape(plan)+"/compare", nil, q, &all)
	return all, err
}

// AskHosts has the hosts of a plan judge a revision themselves, 0 for the last one; they
// take nothing. It waits for their answers.
func (c *Client) AskHosts(ctx context.Context, plan string, number int) (j JudgedPlan, err error) {
	err = c.sendTo(ctx, "POST", fmt.Sprintf("/api/v1/plans/%s/%d/ask", url.PathEscape(plan), number), nil, struct{}{}, &j)
	return j, err
}

// Assignments lists which hosts get which plan.
func (c *Client) Assignments(ctx context.Context) (all []PlanAssignment, err error) {
	err = c.json(ctx, "GET", "/api/v1/assignments", nil, nil, nil, &all)
	return all, err
}

// Assign makes or changes an assignment.
func (c *Client) Assign(ctx context.Context, a PlanAssignment) error {
	return c.send(ctx, "PUT", "/api/v1/assignments", a, nil)
}

// Unassign takes an assignment away.
func (c *Client) Unassign(ctx context.Context, name string) error {
	return c.json(ctx, "DELETE", "/api/v1/assignments/"+url.PathEscape(name), nil, nil, nil, nil)
}

// Fleet lists the hosts as their plans are concerned.
func (c *Client) Fleet(ctx context.Context) (all []FleetHost, err error) {
	err = c.json(ctx, "GET", "/api/v1/fleet", nil, nil, nil, &all)
	return all, err
}

// Overview lists at most so many hosts as limit says, up to 1,000, in which all words of
// a search are found, those that need a person first.
func (c *Client) Overview(ctx context.Context, search string, limit int) (o Overview, err error) {
	err = c.json(ctx, "GET", "/api/v1/overview", url.Values{"search": {search}, "limit": {strconv.Itoa(limit)}}, nil, nil, &o)
	return o, err
}

// SetLabels changes labels and values of a host.
func (c *Client) SetLabels(ctx context.Context, agentID string, s SetLabels) error {
	return c.send(ctx, "PUT", "/api/v1/agents/"+agentID+"/labels", s, nil)
}

// LabelValues lists the values of all hosts with a label.
func (c *Client) LabelValues(ctx context.Context) (all []ValueOfLabel, err error) {
	err = c.json(ctx, "GET", "/api/v1/label-values", nil, nil, nil, &all)
	return all, err
}

// SetLabelValue changes a value of all hosts with a label.
func (c *Client) SetLabelValue(ctx context.Context, v ValueOfLabel) error {
	return c.send(ctx, "PUT", "/api/v1/label-values", v, nil)
}

// StartRollout begins a roll-out.
func (c *Client) StartRollout(ctx context.Context, n NewRollout) (r Rollout, err error) {
	err = c.sendTo(ctx, "POST", "/api/v1/rollouts", nil, n, &r)
	return r, err
}

// Rollouts lists the roll-outs, the newest first.
func (c *Client) Rollouts(ctx context.Context) (all []Rollout, err error) {
	err = c.json(ctx, "GET", "/api/v1/rollouts", nil, nil, nil, &all)
	return all, err
}

// Rollout tells how far a roll-out has come.
func (c *Client) Rollout(ctx context.Context, id uint64) (r Rollout, err error) {
	err = c.json(ctx, "GET", fmt.Sprintf("/api/v1/rollouts/%d", id), nil, nil, nil, &r)
	return r, err
}

// SteerRollout pauses a roll-out, has it go on, or takes it back: "pause", "go-on" or "take-back".
func (c *Client) SteerRollout(ctx context.Context, id uint64, where string) (r Rollout, err error) {
	err = c.sendTo(ctx, "POST", fmt.Sprintf("/api/v1/rollouts/%d/%s", id, where), nil, struct{}{}, &r)
	return r, err
}
