package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"
)

// Client speaks to one service. It may be used by several goroutines at a time.
type Client struct {
	base  *url.URL
	token func() (string, error)
	http  *http.Client
}

// Options says how to reach a service.
type Options struct {
	URL    string
	Token  func() (string, error) // asked for each request, so that it can change
	CAFile string                 // certificates to trust beside the system's, "" for none
}

// New returns a client. It opens no connection yet.
func New(o Options) (*Client, error) {
	base, err := url.Parse(o.URL)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
		return nil, fmt.Errorf("%q is not the address of a service; write https://HOST:PORT", o.URL)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = 2 * time.Minute
	if o.CAFile != "" {
		pem, err := os.ReadFile(o.CAFile)
		if err != nil {
			return nil, err
		}
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", o.CAFile)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return &Client{base, o.Token, &http.Client{Transport: transport}}, nil
}

// RetryLater says that the service cannot answer now.
type RetryLater struct {
	After time.Duration // as it asks, 0 where it does not
	Err   error
}

func (e *RetryLater) Error() string { return e.Err.Error() }
func (e *RetryLater) Unwrap() error { return e.Err }

func (c *Client) do(ctx context.Context, method, path string, query url.Values, header http.Header, body []byte) (*http.Response, error) {
	u := c.base.JoinPath(path)
	u.RawQuery = query.Encode()
	request, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		request.Header[k] = v
	}
	token, err := c.token()
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := c.http.Do(request)
	if err != nil {
		return nil, &RetryLater{Err: fmt.Errorf("%s cannot be reached: %w", c.base, withoutURL(err))}
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
		seconds, _ := strconv.Atoi(response.Header.Get("Retry-After"))
		return &RetryLater{time.Duration(seconds) * time.Second, p}
	}
	return p
}

func (c *Client) json(ctx context.Context, method, path string, query url.Values, header http.Header, body []byte, answer any) error {
	response, err := c.do(ctx, method, path, query, header, body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if answer == nil {
		_, err = io.Copy(io.Discard, response.Body)
		return err
	}
	return json.NewDecoder(response.Body).Decode(answer)
}

func feedPath(agentID, outlet string) string { return "/api/v1/feeds/" + agentID + "/" + outlet }

// Confirmed asks which number of a feed is committed last.
func (c *Client) Confirmed(ctx context.Context, agentID, outlet, cask string) (uint64, error) {
	var answer Confirmed
	err := c.json(ctx, "GET", feedPath(agentID, outlet), url.Values{"cask": {cask}}, nil, nil, &answer)
	return answer.Confirmed, err
}

// SendBatch sends a batch, and returns the last number of the feed that is committed.
func (c *Client) SendBatch(ctx context.Context, agentID, outlet, cask string, head BatchHead, block []byte) (uint64, error) {
	text, err := json.Marshal(head)
	if err != nil {
		return 0, err
	}
	var answer Confirmed
	header := http.Header{BatchHeader: {string(text)}, "Content-Type": {"application/octet-stream"}}
	err = c.json(ctx, "POST", feedPath(agentID, outlet), url.Values{"cask": {cask}}, header, block, &answer)
	return answer.Confirmed, err
}

// SendStatus tells how an agent is.
func (c *Client) SendStatus(ctx context.Context, agentID string, s AgentStatus) error {
	body, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return c.json(ctx, "PUT", "/api/v1/agents/"+agentID, nil, http.Header{"Content-Type": {"application/json"}}, body, nil)
}

// Casks lists the casks that the token may read.
func (c *Client) Casks(ctx context.Context) (casks []Cask, err error) {
	err = c.json(ctx, "GET", "/api/v1/casks", nil, nil, nil, &casks)
	return casks, err
}

// Hosts lists the agents that the service has heard.
func (c *Client) Hosts(ctx context.Context) (hosts []Host, err error) {
	err = c.json(ctx, "GET", "/api/v1/hosts", nil, nil, nil, &hosts)
	return hosts, err
}

// Query says which records are wanted.
type Query struct {
	Cask         string // "" for every cask that the token may read
	Since, Until time.Time
	Where        string
	Limit        int
	OldestFirst  bool
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
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.OldestFirst {
		v.Set("order", "oldest")
	}
	return v
}

// Read calls each with every record that meets the query, one line of JSON a record.
func (c *Client) Read(ctx context.Context, q Query, each func(line []byte) error) error {
	response, err := c.do(ctx, "GET", "/api/v1/records", q.values(), nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	return eachLine(response.Body, "", each)
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

// Count counts the records that meet the query by "severity" or "minute".
func (c *Client) Count(ctx context.Context, q Query, by string) (counts Counts, err error) {
	v := q.values()
	v.Set("by", by)
	err = c.json(ctx, "GET", "/api/v1/counts", v, nil, nil, &counts)
	return counts, err
}
