package client

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// Client speaks to one service. It may be used by several goroutines at a time.
type Client struct {
	bases []*url.URL
	now   atomic.Int32 // which of them answered last
	token func() (string, error)
	most  int64 // bytes of an answer
	http  *http.Client
}

// Options says how to reach a service.
type Options struct {
	URLs  []string               // the addresses of one service; where one cannot be reached the next is tried
	Token func() (string, error) // asked for each request, so that it can change; nil to sign in
	Proxy string                 // an address, "" for that of the environment
	TLS   TLS
	Most  int64 // bytes that an answer may have, 0 for 256 MiB; a larger one is an error
}

const mostAnswer = 256 << 20

// New returns a client. It opens no connection yet.
func New(o Options) (*Client, error) {
	c := &Client{token: o.Token, most: cmp.Or(o.Most, mostAnswer)}
	for _, address := range o.URLs {
		base, err := url.Parse(address)
		if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
			return nil, fmt.Errorf("%q is not the address of a service; write https://HOST:PORT", address)
		}
		c.bases = append(c.bases, base)
	}
	if len(c.bases) > 1 { // agents spread over the addresses
		c.now.Store(rand.Int32N(int32(len(c.bases))))
	}
	transport, err := Transport(o.TLS, o.Proxy)
	if err != nil {
		return nil, err
	}
	c.http = &http.Client{Transport: transport}
	return c, nil
}

// Transport returns what carries requests over TLS as said, and through a proxy
// ("" for that of the environment).
func Transport(t TLS, proxy string) (*http.Transport, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = 2 * time.Minute
	if proxy != "" {
		address, err := url.Parse(proxy)
		if err != nil {
			return nil, fmt.Errorf("%q is not the address of a proxy", proxy)
		}
		transport.Proxy = http.ProxyURL(address)
	}
	var err error
	transport.TLSClientConfig, err = t.Config()
	return transport, err
}

// RetryLater says that the service cannot answer now.
type RetryLater struct {
	After time.Duration // as it asks, 0 where it does not
	Err   error
}

func (e *RetryLater) Error() string { return e.Err.Error() }
func (e *RetryLater) Unwrap() error { return e.Err }

// do asks the address that answered last, and where it cannot be reached, or has no database
// or nobody behind it, the others in turn. Of what may have been done already, and would be
// done twice, another is not asked.
func (c *Client) do(ctx context.Context, method, path string, query url.Values, header http.Header, body []byte) (response *http.Response, err error) {
	start := int(c.now.Load())
	for i := range c.bases {
		which := (start + i) % len(c.bases)
		response, err = c.ask(ctx, c.bases[which], method, path, query, header, body)
		if !isAway(err, method, path) {
			c.now.Store(int32(which))
			return response, err
		}
	}
	return nil, err
}

// isAway tells whether an error says that another address may be able to answer.
func isAway(err error, method, path string) bool {
	var unreachable *Unreachable
	if errors.As(err, &unreachable) {
		return true
	}
	var problem *Problem
	if !errors.As(err, &problem) || problem.Status < http.StatusBadGateway || problem.Status > http.StatusGatewayTimeout {
		return false
	}
	return method != http.MethodPost || strings.HasPrefix(path, feedsPath) // numbers of a feed are taken once
}

// Unreachable says that no answer came from an address.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("%s cannot be reached: %v", e.Address, e.Err)
}
func (e *Unreachable) Unwrap() error { return e.Err }

func (c *Client) ask(ctx context.Context, base *url.URL, method, path string, query url.Values, header http.Header, body []byte) (*http.Response, error) {
	u := base.JoinPath(path)
	u.RawQuery = query.Encode()
	request, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		request.Header[k] = v
	}
	if c.token != nil {
		token, err := c.token()
		if err != nil {
			return nil, err
		}
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		return nil, &RetryLater{Err: &Unreachable{base.String(), withoutURL(err)}}
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	return nil, problemOf(response)
}

// withoutURL takes the address off an error, which names it already.
func withoutURL(err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

func problemOf(response *http.Response) error {
	p := &Problem{}
	b, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	if json.Unmarshal(b, p) != nil || p.Detail == "" {
		p.Detail = "the service answers " + response.Status
	}
	p.Status = response.StatusCode
	if response.StatusCode == http.StatusTooManyRequests || response.StatusCode >= 500 {
		return &RetryLater{RetryAfter(response), p}
	}
	return p
}

// RetryAfter returns how long an answer asks to wait, 0 where it does not.
func RetryAfter(response *http.Response) time.Duration {
	text := response.Header.Get("Retry-After")
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	seconds, _ := strconv.Atoi(text)
	return time.Duration(max(0, seconds)) * time.Second
}

// WithoutAddress takes the address off an error of the net package.
func WithoutAddress(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}

func (c *Client) json(ctx context.Context, method, path string, query url.Values, header http.Header, body []byte, answer any) error {
	response, err := c.do(ctx, method, path, query, header, body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	rest := &io.LimitedReader{R: response.Body, N: c.most}
	if answer == nil {
		_, err = io.Copy(io.Discard, rest)
	} else {
		err = json.NewDecoder(rest).Decode(answer)
	}
	if rest.N <= 0 {
		return &RetryLater{Err: fmt.Errorf("the service answers with more than %d MiB", c.most>>20)}
	}
	return err
}

// send sends what as JSON.
func (c *Client) send(ctx context.Context, method, path string, what, answer any) error {
	return c.sendTo(ctx, method, path, nil, what, answer)
}

func (c *Client) sendTo(ctx context.Context, method, path string, query url.Values, what, answer any) error {
	body, err := json.Marshal(what)
	if err != nil {
		return err
	}
	return c.json(ctx, method, path, query, http.Header{"Content-Type": {"application/json"}}, body, answer)
}

const feedsPath = "/api/v1/feeds/"

func feedPath(agentID, outlet string) string { return feedsPath + agentID + "/" + outlet }

func feedQuery(cask, generation string) url.Values {
	v := url.Values{"cask": {cask}}
	if generation != "" {
		v.Set("generation", generation)
	}
	return v
}

// Confirmed asks which number of a feed is committed last.
func (c *Client) Confirmed(ctx context.Context, agentID, outlet, cask, generation string) (uint64, error) {
	var answer Confirmed
	err := c.json(ctx, "GET", feedPath(agentID, outlet), feedQuery(cask, generation), nil, nil, &answer)
	return answer.Confirmed, err
}

// SendBatch sends a batch, and returns how far the feed is committed.
func (c *Client) SendBatch(ctx context.Context, agentID, outlet, cask string, head BatchHead, block []byte) (answer Confirmed, err error) {
	text, err := json.Marshal(head)
	if err != nil {
		return answer, err
	}
	header := http.Header{BatchHeader: {string(text)}, "Content-Type": {"application/octet-stream"}}
	err = c.json(ctx, "POST", feedPath(agentID, outlet), feedQuery(cask, head.Generation), header, block, &answer)
	return answer, err
}

// SendStatus tells how an agent is, and whether the service wants its plan.
func (c *Client) SendStatus(ctx context.Context, agentID string, s AgentStatus) (taken StatusTaken, err error) {
	err = c.send(ctx, "PUT", "/api/v1/agents/"+agentID, s, &taken)
	return taken, err
}

// SendPlan tells the plan that an agent has in force.
func (c *Client) SendPlan(ctx context.Context, agentID string, p AgentPlan) error {
	return c.send(ctx, "PUT", "/api/v1/agents/"+agentID+"/plan", p, nil)
}

// Seen is what a look at the service shows.
type Seen struct {
	Clock time.Duration        // how far the clock here is ahead of the service's
	TLS   *tls.ConnectionState // nil without https
}

// Look asks whether the service is there.
func (c *Client) Look(ctx context.Context) (s Seen, err error) {
	start := time.Now()
	response, err := c.do(ctx, "GET", "/healthz", nil, nil, nil)
	if err != nil {
		return s, err
	}
	response.Body.Close()
	if at, err := http.ParseTime(response.Header.Get("Date")); err == nil {
		half := time.Since(start) / 2
		s.Clock = start.Add(half).Sub(at.Add(500 * time.Millisecond)) // it tells whole seconds
	}
	s.TLS = response.TLS
	return s, nil
}

// Casks lists the casks that the token may read.
func (c *Client) Casks(ctx context.Context) (casks []Cask, err error) {
	err = c.json(ctx, "GET", "/api/v1/casks", nil, nil, nil, &casks)
	return casks, err
}

// Cask tells of one cask and its feeds.
func (c *Client) Cask(ctx context.Context, name string) (k CaskAndFeeds, err error) {
	err = c.json(ctx, "GET", "/api/v1/casks/"+url.PathEscape(name), nil, nil, nil, &k)
	return k, err
}

// SetCask changes for how long a cask keeps its records.
func (c *Client) SetCask(ctx context.Context, name string, r SetRetention) (k CaskAndFeeds, err error) {
	err = c.send(ctx, "PATCH", "/api/v1/casks/"+url.PathEscape(name), r, &k)
	return k, err
}

// Audit tells who did or read what, the newest first.
func (c *Client) Audit(ctx context.Context, since time.Time, limit int) (acts []Act, err error) {
	v := url.Values{"limit": {strconv.Itoa(limit)}}
	if !since.IsZero() {
		v.Set("since", since.Format(time.RFC3339Nano))
	}
	err = c.json(ctx, "GET", "/api/v1/audit", v, nil, nil, &acts)
	return acts, err
}

// Views lists the searches that were kept.
func (c *Client) Views(ctx context.Context) (views []View, err error) {
	err = c.json(ctx, "GET", "/api/v1/views", nil, nil, nil, &views)
	return views, err
}

// KeepView keeps a search under its name, and returns all that are kept.
func (c *Client) KeepView(ctx context.Context, v View) (views []View, err error) {
	err = c.send(ctx, "PUT", "/api/v1/views", v, &views)
	return views, err
}

// DropView drops the search with a name, and returns those that are left.
func (c *Client) DropView(ctx context.Context, name string) (views []View, err error) {
	err = c.json(ctx, "DELETE", "/api/v1/views", url.Values{"name": {name}}, nil, nil, &views)
	return views, err
}

// Hosts lists the agents that the service has heard.
func (c *Client) Hosts(ctx context.Context) (hosts []Host, err error) {
	err = c.json(ctx, "GET", "/api/v1/hosts", nil, nil, nil, &hosts)
	return hosts, err
}

// WaitForOrders returns the orders of an agent that are not done. Where there
// is none the service waits for one, as long as given, in whole seconds.
func (c *Client) WaitForOrders(ctx context.Context, agentID string, wait time.Duration) (orders []Order, err error) {
	err = c.json(ctx, "GET", ordersPath(agentID), url.Values{"wait": {strconv.Itoa(int(wait.Seconds()))}}, nil, nil, &orders)
	return orders, err
}

func ordersPath(agentID string) string { return "/api/v1/agents/" + agentID + "/orders" }

// OrderDone tells what came of an order.
func (c *Client) OrderDone(ctx context.Context, agentID string, order uint64, what Outcome) error {
	return c.send(ctx, "PUT", fmt.Sprintf("%s/%d", ordersPath(agentID), order), what, nil)
}

// GiveOrder gives an agent an order.
func (c *Client) GiveOrder(ctx context.Context, agentID string, what NewOrder) (o Order, err error) {
	err = c.send(ctx, "POST", ordersPath(agentID), what, &o)
	return o, err
}

// Order returns an order, and what came of it.
func (c *Client) Order(ctx context.Context, agentID string, id uint64) (o Order, err error) {
	err = c.json(ctx, "GET", fmt.Sprintf("%s/%d", ordersPath(agentID), id), nil, nil, nil, &o)
	return o, err
}

// SignIn signs in: what follows is asked as that account, without a token.
func (c *Client) SignIn(ctx context.Context, name, password string) (a Account, err error) {
	if c.http.Jar, err = cookiejar.New(nil); err != nil {
		return a, err
	}
	err = c.send(ctx, "POST", "/api/v1/session", SignIn{name, password}, &a)
	return a, err
}

// SignOut ends the session.
func (c *Client) SignOut(ctx context.Context) error {
	return c.json(ctx, "DELETE", "/api/v1/session", nil, nil, nil, nil)
}

// NewToken makes a token.
func (c *Client) NewToken(ctx context.Context, n NewToken) (t Token, err error) {
	err = c.send(ctx, "POST", "/api/v1/tokens", n, &t)
	return t, err
}

// Query says which records are wanted.
type Query struct {
	Cask         string // "" for every cask that the token may read
	Since, Until time.Time
	Where        string
}

func (q Query) values() url.Values {
	v := url.Values{}
	set := func(key, value string) {
		if value != "" {
			v.Set(key, value)
		}
	}
	set("cask", q.Cask)
	set("where", q.Where)
	if !q.Since.IsZero() {
		v.Set("since", q.Since.Format(time.RFC3339Nano))
	}
	if !q.Until.IsZero() {
		v.Set("until", q.Until.Format(time.RFC3339Nano))
	}
	return v
}

// Page says how many of the records are wanted, and in which order.
type Page struct {
	Limit       int // 0 for 1000
	OldestFirst bool
	// Progress is told by ReadPlaced now and then how many blocks were looked at. It may be nil.
	Progress func(searched, of int)
}

// Read calls each with the records that meet the query, one line of JSON a record.
func (c *Client) Read(ctx context.Context, q Query, p Page, each func(line []byte) error) error {
	return c.read(ctx, q.values(), p, each)
}

func (c *Client) read(ctx context.Context, v url.Values, p Page, each func(line []byte) error) error {
	if p.Limit > 0 {
		v.Set("limit", strconv.Itoa(p.Limit))
	}
	if p.OldestFirst {
		v.Set("order", "oldest")
	}
	response, err := c.do(ctx, "GET", "/api/v1/records", v, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if err := eachLine(response.Body, "", each); err != nil {
		return err
	}
	if n, _ := strconv.Atoi(response.Trailer.Get(DamagedTrailer)); n > 0 {
		err = &DamagedBlocks{n}
	}
	if names := response.Trailer.Get(MissingTrailer); names != "" {
		err = errors.Join(err, &MissingShelves{strings.Split(names, ", ")})
	}
	return err
}

// ReadPlaced calls each with the records that meet the query, and their places.
func (c *Client) ReadPlaced(ctx context.Context, q Query, p Page, each func(Placed) error) error {
	v := q.values()
	v.Set("places", "true")
	if p.Progress != nil {
		v.Set("progress", "true")
	}
	return c.read(ctx, v, p, func(line []byte) error {
		var answer struct {
			Placed
			Searched, Of int
			Missing      []string // which the trailer tells, too
		}
		if err := json.Unmarshal(line, &answer); err != nil {
			return err
		}
		if len(answer.Missing) > 0 {
			return nil
		}
		if answer.Place == "" {
			p.Progress(answer.Searched, answer.Of)
			return nil
		}
		return each(answer.Placed)
	})
}

// Neighbours returns what came before and after a record.
func (c *Client) Neighbours(ctx context.Context, of NeighboursOf) (n Neighbours, err error) {
	v := url.Values{"place": {of.Place}, "each": {strconv.Itoa(of.Each)}}
	for key, value := range map[string]string{"cask": of.Cask, "host": of.Host, "agent": of.Agent} {
		if value != "" {
			v.Set(key, value)
		}
	}
	err = c.json(ctx, "GET", "/api/v1/neighbours", v, nil, nil, &n)
	return n, err
}

// DamagedTrailer is the trailer of HTTP that tells how many blocks could not be
// read for an answer.
const DamagedTrailer = "Oakbarrel-Damaged-Blocks"

// DamagedBlocks says that an answer is whole but for what stood in some blocks.
type DamagedBlocks struct{ Blocks int }

func (e *DamagedBlocks) Error() string {
	return fmt.Sprintf("%d blocks of the store are damaged, and what stood in them is missing here; oakbarrel store check tells which", e.Blocks)
}

// MissingTrailer is the trailer of HTTP that names the shelves that were away for an answer.
const MissingTrailer = "Oakbarrel-Missing-Shelves"

// MissingShelves says that an answer is whole but for what some shelves have, which are away.
type MissingShelves struct{ Names []string }

func (e *MissingShelves) Error() string {
	return "what stands on shelf " + strings.Join(e.Names, ", ") + " is missing here, as it is away; it can be read again once it is back"
}

// Follow calls each with every record that meets the query and is committed from now on, until ctx ends.
func (c *Client) Follow(ctx context.Context, q Query, each func(line []byte) error) error {
	response, err := c.do(ctx, "GET", "/api/v1/follow", q.values(), nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	err = eachLine(response.Body, "data: ", each)
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func eachLine(from io.Reader, prefix string, each func([]byte) error) error {
	lines := bufio.NewReaderSize(from, 256<<10)
	for {
		line, err := lines.ReadBytes('\n')
		if text, found := strings.CutPrefix(string(line), prefix); found && len(text) > 1 {
			if err := each([]byte(strings.TrimSuffix(text, "\n"))); err != nil {
				return err
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Count counts the records that meet the query by "severity", "minute", "host",
// "agent", "app", "msgid", "facility", "intake" or "field", with its path; of values at
// most top, the most frequent first.
func (c *Client) Count(ctx context.Context, q Query, by, field string, top int) (counts Counts, err error) {
	v := q.values()
	v.Set("by", by)
	v.Set("top", strconv.Itoa(top))
	if field != "" {
		v.Set("field", field)
	}
	err = c.json(ctx, "GET", "/api/v1/counts", v, nil, nil, &counts)
	return counts, err
}

// ShapesAsked says which shapes are wanted of a query, which has a span.
type ShapesAsked struct {
	NewSince time.Time // from which on a shape is new; zero for the start of the span
	Only     []string  // of "new", "risen", "fallen" and "ceased"; none for all
	Parts    int       // of their course, 1 to 100; 0 for 48
	Limit    int       // 1 to 10000; 0 for 100
}

// Shapes counts the records that meet the query by the shapes of their texts, those with the
// most first.
func (c *Client) Shapes(ctx context.Context, q Query, asked ShapesAsked) (shapes Shapes, err error) {
	v := q.values()
	if !asked.NewSince.IsZero() {
		v.Set("new_since", asked.NewSince.Format(time.RFC3339Nano))
	}
	if len(asked.Only) > 0 {
		v.Set("only", strings.Join(asked.Only, ","))
	}
	for name, n := range map[string]int{"parts": asked.Parts, "limit": asked.Limit} {
		if n > 0 {
			v.Set(name, strconv.Itoa(n))
		}
	}
	err = c.json(ctx, "GET", "/api/v1/shapes", v, nil, nil, &shapes)
	return shapes, err
}
