package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"runtime"
	"time"

	"github.com/gin-gonic/gin"
	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/access"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
)

var (
	isName  = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)
	isAgent = regexp.MustCompile(`^[0-9a-f]{32}$`)
)

// quoted returns the name of a cask as it can be told: it comes from outside.
func quoted(name string) string {
	if !isName.MatchString(name) {
		return "of that name"
	}
	return name
}

// caskToWrite returns the cask of a request that writes; the token must be for it.
func (a *API) caskToWrite(ctx context.Context, name string) (cask model.Cask, err error) {
	err = a.DB.WithContext(ctx).Where("name = ?", name).Take(&cask).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return cask, problem(http.StatusNotFound, "there is no cask "+quoted(name), "make it with: oakbarrel token new --cask NAME --may write")
	}
	if err != nil {
		return cask, a.unavailable(ctx, err)
	}
	if only := visitor(ctx).Cask; only != nil && *only != cask.ID {
		return cask, problem(http.StatusForbidden, "the token is for another cask than "+quoted(name), access.MakeToken(name, access.Write))
	}
	return cask, nil
}

// FeedPath names a feed.
type FeedPath struct {
	AgentPath
	Outlet     string `path:"outlet" pattern:"^[A-Za-z0-9._-]{1,64}$" doc:"the outlet's name"`
	Cask       string `query:"cask" required:"true" doc:"the cask that the feed flows into"`
	Generation string `query:"generation" pattern:"^(import|[0-9a-f]{32})?$" doc:"import for that of a file, and else what tells the feed from those before it that are of the same agent and outlet"`
}

// key returns what tells the feed apart; the visitor must be one that may write into its cask.
func (a *API) key(ctx context.Context, in *FeedPath) (ingest.FeedKey, error) {
	cask, err := a.caskToWrite(ctx, in.Cask)
	return ingest.FeedKey{CaskID: cask.ID, AgentID: in.Agent, Outlet: in.Outlet, Generation: in.Generation}, err
}

type confirmedOutput struct{ Body client.Confirmed }

// feed tells which number of a feed is committed last.
func (a *API) feed(ctx context.Context, in *FeedPath) (*confirmedOutput, error) {
	key, err := a.key(ctx, in)
	if err != nil {
		return nil, err
	}
	confirmed, err := a.Feeds.Confirmed(ctx, key)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &confirmedOutput{confirmed}, nil
}

type leaseInput struct {
	FeedPath
	Body client.Lease
}

type leasedOutput struct{ Body client.Leased }

// lease gives a run of an agent the right to write into a feed, or tells why not.
func (a *API) lease(ctx context.Context, in *leaseInput) (*leasedOutput, error) {
	key, err := a.key(ctx, &in.FeedPath)
	if err != nil {
		return nil, err
	}
	leased, err := a.Feeds.Lease(ctx, key, in.Body)
	if errors.Is(err, ingest.ErrTooManyFeeds) {
		return nil, tooManyFeeds()
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	leased.MostBytes = a.mostBlock()
	if f := leased.Fork; f != nil && !in.Body.Look {
		detail := fmt.Sprintf("outlet %s: its folder is a copy, or was set back, behind number %d; run %s has the lease since %s", in.Outlet, f.Last, f.Run, f.Since.UTC().Format(time.RFC3339))
		a.noteFor(ctx, agentName(in.Agent), "fork", detail)
	}
	return &leasedOutput{leased}, nil
}

// mostOpening is how many blocks are unpacked at a time, of one sender half as many: each
// takes a core, and up to twice [block.MaxBody] of memory.
func mostOpening() int { return runtime.GOMAXPROCS(0) }

// mostCommitting is how many batches of one sender wait for their commit at a time, so
// that its own come behind those of others.
const mostCommitting = 8

// mostBlock returns how many bytes a block may have.
func (a *API) mostBlock() int64 {
	if a.MostBlock > 0 {
		return min(a.MostBlock, maxBlock)
	}
	return maxBlock
}

func tooManyFeeds() error {
	return problem(http.StatusForbidden, ingest.ErrTooManyFeeds.Error(), "look what makes so many outlets, or copies; give the agent a new state folder")
}

// batch takes a batch; the answer means that it is committed.
func (a *API) batch(c *gin.Context) {
	confirmed, err := a.takeBatch(c)
	if err != nil {
		answer(c, err)
		return
	}
	c.JSON(http.StatusOK, confirmed)
}

var isGeneration = regexp.MustCompile(`^(import|[0-9a-f]{32})?$`)

func (a *API) takeBatch(c *gin.Context) (confirmed client.Confirmed, err error) {
	ctx := c.Request.Context()
	in := FeedPath{AgentPath{c.Param("agent")}, c.Param("outlet"), c.Query("cask"), c.Query("generation")}
	if !isAgent.MatchString(in.Agent) || !isName.MatchString(in.Outlet) || !isGeneration.MatchString(in.Generation) {
		return confirmed, problem(http.StatusBadRequest, "the address does not name a feed", "it is /api/v1/feeds/AGENT-ID/OUTLET")
	}
	b := &ingest.Batch{Sender: visitor(ctx).Name}
	if b.FeedKey, err = a.key(ctx, &in); err != nil {
		return confirmed, err
	}
	shelf, err := a.Feeds.Away(ctx, b.FeedKey)
	if err != nil {
		return confirmed, a.unavailable(ctx, err)
	}
	body, err := a.readBody(c)
	if err != nil {
		return confirmed, err
	}
	defer body.release()
	who := visitor(ctx).Owner()
	if err := a.opening.wait(ctx, who, mostOpening(), max(1, mostOpening()/2)); err != nil {
		return confirmed, err
	}
	err = a.openBatch(c, b, body.Bytes())
	a.opening.leave(who)
	if err != nil {
		return confirmed, err
	}
	who += " " + shelf // so that what waits for one shelf keeps nothing from another
	if err := a.committing.wait(ctx, who, math.MaxInt, mostCommitting); err != nil {
		return confirmed, err
	}
	defer a.committing.leave(who)
	confirmed, err = a.Feeds.Take(ctx, b)
	a.meter.batch(len(b.Payload), err)
	return confirmed, a.refusalOf(ctx, b, err)
}

// refusalOf tells an agent why a batch is not taken, nil where it is.
func (a *API) refusalOf(ctx context.Context, b *ingest.Batch, err error) error {
	var wrong *ingest.WrongNumber
	switch {
	case err == nil:
		return nil
	case errors.As(err, &wrong):
		p := problem(http.StatusConflict, wrong.Error(), "")
		p.Expected = wrong.Expected
		return p
	case errors.Is(err, ingest.ErrLease), errors.Is(err, ingest.ErrFork):
		a.Log.Warn("a batch is not taken", "agent", b.AgentID, "outlet", b.Outlet, "first", b.First, "run", b.Run, "why", err)
		p := problem(http.StatusConflict, err.Error(), "the agent asks for the lease, and goes on by itself")
		p.Lease = true
		return p
	case errors.Is(err, ingest.ErrTooManyFeeds):
		return tooManyFeeds()
	case errors.Is(err, ingest.ErrFailed):
		a.Log.Error("a batch makes the service fail", "agent", b.AgentID, "outlet", b.Outlet, "first", b.First, "last", b.Last, "why", err)
		return failedAt(err.Error())
	}
	return a.unavailable(ctx, err)
}

// openBatch checks a batch. Nothing sent is trusted.
func (a *API) openBatch(c *gin.Context, b *ingest.Batch, payload []byte) error {
	var head client.BatchHead
	if err := json.Unmarshal([]byte(c.GetHeader(client.BatchHeader)), &head); err != nil {
		return problem(http.StatusBadRequest, "the header "+client.BatchHeader+" cannot be read", "it is JSON with first, last, shed, lost and hash")
	}
	b.Numbers, b.Refused, b.Payload, b.Hash = head.Numbers, head.Refused, payload, sha256.Sum256(payload)
	b.Run, b.Previous, b.Twice = head.Run, head.Previous, head.Twice
	if hex.EncodeToString(b.Hash[:]) != head.Hash {
		return problem(http.StatusUnprocessableEntity, "the block is not the one whose hash was announced", "")
	}
	b.Watcher = a.Alerts.Watch
	if err := b.Open(); err != nil {
		return problem(http.StatusUnprocessableEntity, err.Error(), "")
	}
	return nil
}
