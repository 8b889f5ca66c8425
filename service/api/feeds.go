package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"
	"regexp"

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

type feedInput struct {
	Agent  string `path:"agent" pattern:"^[0-9a-f]{32}$" doc:"the id of the agent"`
	Outlet string `path:"outlet" pattern:"^[A-Za-z0-9._-]{1,64}$" doc:"the outlet's name"`
	Cask   string `query:"cask" required:"true" doc:"the cask that the feed flows into"`
}

type confirmedOutput struct{ Body client.Confirmed }

// feed tells which number of a feed is committed last.
func (a *API) feed(ctx context.Context, in *feedInput) (*confirmedOutput, error) {
	if _, err := a.caskToWrite(ctx, in.Cask); err != nil {
		return nil, err
	}
	var feed model.Feed
	err := a.DB.WithContext(ctx).Where("agent_id = ? AND outlet = ?", in.Agent, in.Outlet).Take(&feed).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, a.unavailable(ctx, err)
	}
	return &confirmedOutput{client.Confirmed{Confirmed: feed.Confirmed}}, nil
}

// batch takes a batch; the answer means that it is committed.
func (a *API) batch(c *gin.Context) {
	confirmed, err := a.takeBatch(c)
	if err != nil {
		answer(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Confirmed{Confirmed: confirmed})
}

func (a *API) takeBatch(c *gin.Context) (confirmed uint64, err error) {
	ctx := c.Request.Context()
	b := &ingest.Batch{AgentID: c.Param("agent"), Outlet: c.Param("outlet")}
	if !isAgent.MatchString(b.AgentID) || !isName.MatchString(b.Outlet) {
		return 0, problem(http.StatusBadRequest, "the address does not name a feed", "it is /api/v1/feeds/AGENT-ID/OUTLET")
	}
	cask, err := a.caskToWrite(ctx, c.Query("cask"))
	if err != nil {
		return 0, err
	}
	b.CaskID, b.Sender = cask.ID, visitor(ctx).Name
	body, err := a.readBody(c)
	if err != nil {
		return 0, err
	}
	defer body.release()
	if err := a.openBatch(c, b, body.Bytes()); err != nil {
		return 0, err
	}
	confirmed, err = a.Queue.Take(ctx, b)
	var wrong *ingest.WrongNumber
	switch {
	case errors.As(err, &wrong):
		p := problem(http.StatusConflict, wrong.Error(), "")
		p.Expected = wrong.Expected
		return 0, p
	case errors.Is(err, ingest.ErrFork):
		a.Log.Error("a feed has forked", "agent", b.AgentID, "outlet", b.Outlet, "first", b.First)
		return 0, problem(http.StatusConflict, err.Error(), "give the agent a new state folder")
	case errors.Is(err, ingest.ErrFailed):
		a.Log.Error("a batch makes the service fail", "agent", b.AgentID, "outlet", b.Outlet, "first", b.First, "last", b.Last, "why", err)
		return 0, failedAt(err.Error())
	case err != nil:
		return 0, a.unavailable(ctx, err)
	}
	return confirmed, nil
}

// openBatch checks a batch. Nothing sent is trusted.
func (a *API) openBatch(c *gin.Context, b *ingest.Batch, payload []byte) error {
	var head client.BatchHead
	if err := json.Unmarshal([]byte(c.GetHeader(client.BatchHeader)), &head); err != nil {
		return problem(http.StatusBadRequest, "the header "+client.BatchHeader+" cannot be read", "it is JSON with first, last, shed, lost and hash")
	}
	b.Numbers, b.Refused, b.Payload, b.Hash = head.Numbers, head.Refused, payload, sha256.Sum256(payload)
	if hex.EncodeToString(b.Hash[:]) != head.Hash {
		return problem(http.StatusUnprocessableEntity, "the block is not the one whose hash was announced", "")
	}
	if err := b.Open(); err != nil {
		return problem(http.StatusUnprocessableEntity, err.Error(), "")
	}
	return nil
}
