package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"
)

// Alert is a question that the store keeps asking, and whom it tells.
type Alert struct {
	Name    string    `json:"name"`
	Text    string    `json:"text"`   // YAML
	Number  int       `json:"number"` // how often it was changed, from 1
	Off     bool      `json:"off"`    // it asks nothing for now
	By      string    `json:"by"`     // who changed it last
	Changed time.Time `json:"changed"`

	Asks    string     `json:"asks"` // in words
	Cask    string     `json:"cask"` // "" for every one
	Tell    []string   `json:"tell"`
	Holds   int        `json:"holds"`   // how many it is so of now
	Notice  uint64     `json:"notice"`  // that is open, 0 for none
	Told    *time.Time `json:"told"`    // last
	Trouble string     `json:"trouble"` // why it cannot do what it says, "" for nothing
}

// PutAlert puts a text in the place of an alert's, or makes it.
type PutAlert struct {
	Text string `json:"text" maxLength:"65536"`
	Base *int   `json:"base,omitempty" doc:"the number that it was made from, 0 for a new alert; another one at the end is a conflict"`
	Off  bool   `json:"off,omitempty" doc:"it asks nothing for now"`
}

// TryAlert asks when an alert would have told somebody.
type TryAlert struct {
	Name string `json:"name" pattern:"^[A-Za-z0-9._-]{1,64}$"`
	Text string `json:"text" maxLength:"65536"`
	Days int    `json:"days" minimum:"1" maximum:"90" doc:"of the past"`
}

// TriedAlert tells when an alert would have told somebody.
type TriedAlert struct {
	Findings []Finding     `json:"findings"`
	Asks     string        `json:"asks"` // in words, "" where it is refused
	From     time.Time     `json:"from"` // what was looked at; that may be less than was asked for
	To       time.Time     `json:"to"`
	Times    int           `json:"times"`
	Told     []WouldBeTold `json:"told"`              // the newest first, at most 100
	Missing  []string      `json:"missing,omitempty"` // shelves that are away
}

// WouldBeTold is when somebody would have been told.
type WouldBeTold struct {
	At    time.Time `json:"at"`
	Line  string    `json:"line"`
	Count int       `json:"count"` // of those that it would have been about
}

// The states of a notice.
const (
	NoticeTold = "told" // and nobody is on it
	NoticeSeen = "seen" // somebody is
	NoticeDone = "done"
)

// Notice is what an alert has found.
type Notice struct {
	ID      uint64      `json:"id"`
	Alert   string      `json:"alert"`
	Cask    string      `json:"cask"` // "" for every one
	State   string      `json:"state"`
	Title   string      `json:"title"`
	Note    string      `json:"note"` // of the alert
	Since   time.Time   `json:"since"`
	Until   time.Time   `json:"until"`
	Holds   bool        `json:"holds"` // it is so now
	Times   int         `json:"times"` // it has come
	Told    int         `json:"told"`  // times
	ToldAt  *time.Time  `json:"told_at"`
	Pending bool        `json:"pending"` // there is something that nobody was told yet
	Muted   *time.Time  `json:"muted"`   // until then nobody is told
	By      string      `json:"by"`      // who is on it
	Why     string      `json:"why"`     // it is done
	Created time.Time   `json:"created"`
	Changed time.Time   `json:"changed"`
	About   []NoticeWho `json:"about"` // at most 100
	Of      int         `json:"of"`    // how many it is about
	Sent    []Delivery  `json:"sent"`  // of one notice alone
}

// NoticeWho is one whom a notice is about.
type NoticeWho struct {
	Who   string    `json:"who"` // "" for all together
	Line  string    `json:"line"`
	Where string    `json:"where"` // the condition that its records meet
	Since time.Time `json:"since"`
	Until time.Time `json:"until"`
	Holds bool      `json:"holds"`
	Times int       `json:"times"`
}

// Delivery is how a notice came to a receiver.
type Delivery struct {
	Receiver string     `json:"receiver"`
	Created  time.Time  `json:"created"`
	Done     *time.Time `json:"done"`
	Tries    int        `json:"tries"`
	Trouble  string     `json:"trouble"`
	GivenUp  bool       `json:"given_up"`
}

// SteerNotice says what somebody does about a notice.
type SteerNotice struct {
	Do      string `json:"do" enum:"take,leave,mute,done,reopen"`
	Why     string `json:"why,omitempty" maxLength:"1000" doc:"for done: why"`
	Minutes int    `json:"minutes,omitempty" minimum:"0" maximum:"43200" doc:"for mute: for how long; 0 takes it back"`
}

// Receiver is where notices go. Its secrets are not told.
type Receiver struct {
	Name    string    `json:"name"`
	Kind    string    `json:"kind"` // mail, webhook or push
	To      string    `json:"to"`   // in words
	By      string    `json:"by"`
	Changed time.Time `json:"changed"`
	Trouble string    `json:"trouble"` // of what was sent last, "" for none
	Alerts  []string  `json:"alerts"`  // that name it
}

// PutReceiver makes a receiver, or puts another in its place.
type PutReceiver struct {
	Kind     string   `json:"kind" enum:"mail,webhook,push"`
	Server   string   `json:"server,omitempty" maxLength:"255" doc:"of mail: HOST:PORT"`
	From     string   `json:"from,omitempty" maxLength:"255" doc:"of mail: an address"`
	To       []string `json:"to,omitempty" maxItems:"50" doc:"of mail: addresses"`
	User     string   `json:"user,omitempty" maxLength:"255" doc:"of mail"`
	Password string   `json:"password,omitempty" maxLength:"1000" doc:"of mail"`
	Address  string   `json:"address,omitempty" maxLength:"2000" doc:"of a webhook or a push topic; it is a secret, and not told again"`
	Token    string   `json:"token,omitempty" maxLength:"2000" doc:"likewise: a bearer token"`
	Body     string   `json:"body,omitempty" maxLength:"8000" doc:"of a webhook: what is sent, with places such as {title}"`
}

// Alerts lists the alerts.
func (c *Client) Alerts(ctx context.Context) (all []Alert, err error) {
	err = c.json(ctx, "GET", "/api/v1/alerts", nil, nil, nil, &all)
	return all, err
}

// PutAlert makes or changes an alert.
func (c *Client) PutAlert(ctx context.Context, name string, p PutAlert) (a Alert, err error) {
	err = c.send(ctx, "PUT", "/api/v1/alerts/"+url.PathEscape(name), p, &a)
	return a, err
}

// RemoveAlert removes an alert.
func (c *Client) RemoveAlert(ctx context.Context, name string) error {
	return c.json(ctx, "DELETE", "/api/v1/alerts/"+url.PathEscape(name), nil, nil, nil, nil)
}

// TryAlert tells when an alert would have told somebody.
func (c *Client) TryAlert(ctx context.Context, t TryAlert) (tried TriedAlert, err error) {
	err = c.send(ctx, "POST", "/api/v1/alerts/try", t, &tried)
	return tried, err
}

// Notices lists notices of states with commas between them, the newest first; all where that is empty.
func (c *Client) Notices(ctx context.Context, states string, limit int) (all []Notice, err error) {
	err = c.json(ctx, "GET", "/api/v1/notices", url.Values{"state": {states}, "limit": {strconv.Itoa(limit)}}, nil, nil, &all)
	return all, err
}

// Notice returns one notice.
func (c *Client) Notice(ctx context.Context, id uint64) (n Notice, err error) {
	err = c.json(ctx, "GET", fmt.Sprintf("/api/v1/notices/%d", id), nil, nil, nil, &n)
	return n, err
}

// SteerNotice does something about a notice.
func (c *Client) SteerNotice(ctx context.Context, id uint64, s SteerNotice) (n Notice, err error) {
	err = c.send(ctx, "POST", fmt.Sprintf("/api/v1/notices/%d", id), s, &n)
	return n, err
}

// Receivers lists the receivers of notices.
func (c *Client) Receivers(ctx context.Context) (all []Receiver, err error) {
	err = c.json(ctx, "GET", "/api/v1/receivers", nil, nil, nil, &all)
	return all, err
}

// PutReceiver makes or changes a receiver.
func (c *Client) PutReceiver(ctx context.Context, name string, p PutReceiver) error {
	return c.send(ctx, "PUT", "/api/v1/receivers/"+url.PathEscape(name), p, nil)
}

// RemoveReceiver removes a receiver.
func (c *Client) RemoveReceiver(ctx context.Context, name string) error {
	return c.json(ctx, "DELETE", "/api/v1/receivers/"+url.PathEscape(name), nil, nil, nil, nil)
}

// TryReceiver sends a receiver a notice that says it is a test.
func (c *Client) TryReceiver(ctx context.Context, name string) error {
	return c.json(ctx, "POST", "/api/v1/receivers/"+url.PathEscape(name)+"/try", nil, nil, nil, nil)
}
