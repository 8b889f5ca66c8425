package outlet

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"oakbarrel/client"
)

// chain is the run of batches that this agent has sent under its lease: each names
// the link of the one before, so that nobody else's can come between unseen. It also
// keeps the feed's account, which the store must come to as well.
type chain struct {
	mu      sync.Mutex
	leased  bool
	link    string // of what is confirmed
	last    *link  // of the batch that was packed last
	sent    []sentBatch
	account client.FeedAccount // of the feed, as the store told it last
}

// sentBatch is a batch that may have been committed, and what it adds to the account.
type sentBatch struct {
	link *link
	adds client.FeedAccount
}

// link is the link of a batch, once it is known.
type link struct {
	known chan struct{}
	text  string
}

func newLink() *link { return &link{known: make(chan struct{})} }

func knownLink(text string) *link {
	l := newLink()
	l.set(text)
	return l
}

func (l *link) set(text string) {
	l.text = text
	close(l.known)
}

// is tells whether the link is known, and is this one.
func (l *link) is(text string) bool {
	select {
	case <-l.known:
		return l.text == text
	default:
		return false
	}
}

// wait returns the link once it is known.
func (l *link) wait(ctx context.Context) (string, error) {
	select {
	case <-l.known:
		return l.text, nil
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

func (c *chain) begun() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.leased
}

// has tells whether a link that the store has is of a batch of this agent.
func (c *chain) has(text string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.leased || text == c.link || c.find(text) >= 0
}

// find returns the place of a batch in what was sent, -1 where it is not there. The
// caller holds the lock.
func (c *chain) find(text string) int {
	return slices.IndexFunc(c.sent, func(b sentBatch) bool { return b.link.is(text) })
}

func (c *chain) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.leased, c.link, c.sent, c.last = false, "", nil, nil
}

// begin begins behind what the store has. What was sent and is not there was not
// committed.
func (c *chain) begin(answer client.Leased) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.leased, c.link, c.sent, c.account = true, answer.Link, nil, answer.Account
	c.last = knownLink(answer.Link)
}

// rewind has the next batch follow what is confirmed: what was sent since was refused.
func (c *chain) rewind() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sent, c.last = nil, knownLink(c.link)
}

// add makes a batch the next one, and returns its link and that of the one before.
func (c *chain) add(adds client.FeedAccount) (before, own *link) {
	c.mu.Lock()
	defer c.mu.Unlock()
	before, own = c.last, newLink()
	c.last = own
	c.sent = append(c.sent, sentBatch{own, adds})
	return before, own
}

// confirmed takes what the store says of the feed once a batch is committed. It tells
// how the store's account differs from what was sent, "" where it does not.
func (c *chain) confirmed(answer client.Confirmed) (differs string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	at := c.find(answer.Link)
	if at < 0 {
		return "" // a later answer has told it already
	}
	want := c.account
	for _, b := range c.sent[:at+1] {
		want = want.Plus(b.adds)
	}
	c.link, c.sent, c.account = answer.Link, slices.Delete(c.sent, 0, at+1), answer.Account
	if want != answer.Account {
		return fmt.Sprintf("%+v were sent, and the store has %+v", want, answer.Account)
	}
	return ""
}
