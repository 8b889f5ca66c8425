// Package api is the service's HTTP interface: it reads requests, asks the
// other parts of the service, and answers in JSON or with problem details
// (RFC 9457).
package api

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/access"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// maxBlock bounds the body of a batch, in bytes; maxStatus that of a status.
const (
	maxBlock  = 32 << 20
	maxStatus = 1 << 20
)

// API answers requests. It may be used by several goroutines at a time.
type API struct {
	DB     *gorm.DB
	Queue  *ingest.Queue
	Search *search.Store
	Hub    *Hub
	Log    *slog.Logger
	Door   access.Door
}

// Handler returns the interface as a handler of net/http.
func (a *API) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.HandleMethodNotAllowed = true
	g.NoMethod(func(c *gin.Context) {
		problem(c, http.StatusMethodNotAllowed, "this address does not take "+c.Request.Method, "")
	})
	g.Use(gin.CustomRecoveryWithWriter(io.Discard, a.recovered))
	g.GET("/healthz", a.health)
	g.NoRoute(pages)
	v1 := g.Group("/api/v1", sameOrigin)
	v1.POST("/session", a.signIn)
	v1.GET("/session", a.who)
	v1.DELETE("/session", a.signOut)
	v1.GET("/feeds/:agent/:outlet", a.may(access.Write), a.feed)
	v1.POST("/feeds/:agent/:outlet", a.may(access.Write), a.batch)
	v1.PUT("/agents/:agent", a.may(access.Write), a.agent)
	v1.GET("/casks", a.may(access.Read), a.casks)
	v1.GET("/hosts", a.may(access.Read), a.hosts)
	v1.GET("/records", a.may(access.Read), a.records)
	v1.GET("/counts", a.may(access.Read), a.counts)
	v1.GET("/histogram", a.may(access.Read), a.histogram)
	v1.GET("/status", a.may(access.Read), a.statuses)
	v1.GET("/follow", a.may(access.Read), a.follow)
	return g
}

func (a *API) recovered(c *gin.Context, err any) {
	if err == http.ErrAbortHandler {
		panic(err)
	}
	a.Log.Error("a request failed", "path", c.Request.URL.Path, "why", err)
	problem(c, http.StatusInternalServerError, "the service has failed at this request; its log tells more", "")
}

// problem answers with problem details.
func problem(c *gin.Context, status int, detail, mend string) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, client.Problem{Title: http.StatusText(status), Status: status, Detail: detail, Mend: mend})
}

// unavailable answers that the database cannot be asked now.
func (a *API) unavailable(c *gin.Context, err error) {
	if c.Request.Context().Err() != nil {
		return // nobody listens any more
	}
	a.Log.Error("the database does not answer", "path", c.Request.URL.Path, "why", err)
	c.Header("Retry-After", "1")
	problem(c, http.StatusServiceUnavailable, "the database does not answer", "the service goes on by itself once it does")
}

func (a *API) health(c *gin.Context) {
	pool, err := a.DB.DB()
	if err == nil {
		err = pool.PingContext(c.Request.Context())
	}
	if err != nil {
		a.unavailable(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"status": "ok"})
}

const tokenKey = "token"

// may lets a request pass that brings a token for what it wants to do. Who has
// signed in may read every cask.
func (a *API) may(what string) gin.HandlerFunc {
	return func(c *gin.Context) {
		if what == access.Read && c.GetHeader("Authorization") == "" {
			if _, ok := a.session(c); ok {
				c.Set(tokenKey, model.Token{May: access.Read})
				return
			} else if c.IsAborted() {
				return
			}
		}
		text, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
		if !ok || text == "" {
			c.Header("WWW-Authenticate", "Bearer")
			problem(c, http.StatusUnauthorized, "the request brings no token", "make one with: oakbarrel token new --cask NAME --may "+what)
			return
		}
		token, err := access.Find(a.DB.WithContext(c.Request.Context()), text)
		switch {
		case errors.Is(err, access.ErrUnknown):
			c.Header("WWW-Authenticate", "Bearer")
			problem(c, http.StatusUnauthorized, "the token is not known here", "make one with: oakbarrel token new --cask NAME --may "+what)
		case err != nil:
			a.unavailable(c, err)
		case token.May != what:
			problem(c, http.StatusForbidden, "the token may "+token.May+", not "+what, "make another with: oakbarrel token new --cask NAME --may "+what)
		default:
			c.Set(tokenKey, token)
		}
	}
}

// cask returns the cask of a request that writes; the token must be for it.
func (a *API) cask(c *gin.Context) (cask model.Cask, ok bool) {
	name := c.Query("cask")
	err := a.DB.WithContext(c.Request.Context()).Where("name = ?", name).Take(&cask).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		problem(c, http.StatusNotFound, "there is no cask "+quoted(name), "make it with: oakbarrel token new --cask NAME --may write")
		return cask, false
	}
	if err != nil {
		a.unavailable(c, err)
		return cask, false
	}
	if token := c.MustGet(tokenKey).(model.Token); token.CaskID != nil && *token.CaskID != cask.ID {
		problem(c, http.StatusForbidden, "the token is for another cask than "+quoted(name), "make one with: oakbarrel token new --cask "+name+" --may write")
		return cask, false
	}
	return cask, true
}

func quoted(name string) string {
	if !isName.MatchString(name) {
		return "of that name"
	}
	return name
}

var (
	isName  = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)
	isAgent = regexp.MustCompile(`^[0-9a-f]{32}$`)
)

// feedOf checks the names of a feed.
func feedOf(c *gin.Context) (agent, outlet string, ok bool) {
	agent, outlet = c.Param("agent"), c.Param("outlet")
	if !isAgent.MatchString(agent) || !isName.MatchString(outlet) {
		problem(c, http.StatusBadRequest, "the address does not name a feed", "it is /api/v1/feeds/AGENT-ID/OUTLET")
		return "", "", false
	}
	return agent, outlet, true
}

// feed tells which number of a feed is committed last.
func (a *API) feed(c *gin.Context) {
	agent, outlet, ok := feedOf(c)
	if !ok {
		return
	}
	if _, ok := a.cask(c); !ok {
		return
	}
	var feed model.Feed
	err := a.DB.WithContext(c.Request.Context()).Where("agent_id = ? AND outlet = ?", agent, outlet).Take(&feed).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		a.unavailable(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Confirmed{Confirmed: feed.Confirmed})
}

// batch takes a batch; the answer means that it is committed.
func (a *API) batch(c *gin.Context) {
	agent, outlet, ok := feedOf(c)
	if !ok {
		return
	}
	cask, ok := a.cask(c)
	if !ok {
		return
	}
	b := &ingest.Batch{AgentID: agent, Outlet: outlet, CaskID: cask.ID}
	if !readBatch(c, b) {
		return
	}
	confirmed, err := a.Queue.Take(c.Request.Context(), b)
	var wrong *ingest.WrongNumber
	switch {
	case errors.As(err, &wrong):
		c.Header("Content-Type", "application/problem+json")
		c.AbortWithStatusJSON(http.StatusConflict, client.Problem{Title: "Conflict", Status: http.StatusConflict, Detail: wrong.Error(), Expected: wrong.Expected})
	case errors.Is(err, ingest.ErrFork):
		a.Log.Error("a feed has forked", "agent", agent, "outlet", outlet, "first", b.First)
		problem(c, http.StatusConflict, err.Error(), "give the agent a new state folder")
	case err != nil:
		a.unavailable(c, err)
	default:
		c.JSON(http.StatusOK, client.Confirmed{Confirmed: confirmed})
	}
}

// readBatch reads and checks a batch. Nothing sent is trusted.
func readBatch(c *gin.Context, b *ingest.Batch) bool {
	var head client.BatchHead
	if err := json.Unmarshal([]byte(c.GetHeader(client.BatchHeader)), &head); err != nil {
		problem(c, http.StatusBadRequest, "the header "+client.BatchHeader+" cannot be read", "it is JSON with first, last, shed, lost and hash")
		return false
	}
	payload, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxBlock))
	if err != nil {
		status := http.StatusBadRequest
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			status = http.StatusRequestEntityTooLarge
		}
		problem(c, status, "the block cannot be read: "+err.Error(), "")
		return false
	}
	b.First, b.Last, b.Shed, b.Lost, b.Payload, b.Hash = head.First, head.Last, head.Shed, head.Lost, payload, sha256.Sum256(payload)
	if hex.EncodeToString(b.Hash[:]) != head.Hash {
		problem(c, http.StatusUnprocessableEntity, "the block is not the one whose hash was announced", "")
		return false
	}
	if err := b.Open(); err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error(), "")
		return false
	}
	return true
}

// agent takes what an agent says of itself.
func (a *API) agent(c *gin.Context) {
	id := c.Param("agent")
	var s client.AgentStatus
	err := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxStatus)).Decode(&s)
	if err != nil || !isAgent.MatchString(id) || len(s.Host) > 255 || len(s.PlanHash) > 64 {
		problem(c, http.StatusBadRequest, "this is not the status of an agent", "")
		return
	}
	row := model.Agent{ID: id, Host: s.Host, PlanHash: s.PlanHash, Held: s.Held, LastHeard: time.Now(), Status: s.Status}
	if err := a.DB.WithContext(c.Request.Context()).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
		a.unavailable(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
