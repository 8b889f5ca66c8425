package api

import (
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"oakbarrel/client"
)

// Who is refused often is answered late, so that trying costs more time than refusing.
const (
	quickRefusals = 20 // in a second
	refusalTime   = 250 * time.Millisecond
)

// refusals counts by whom the service was asked in vain in the second that has begun.
// The zero value is ready. It may be used by several goroutines at a time.
type refusals struct {
	mu    sync.Mutex
	begun time.Time
	by    map[string]int
}

// add counts a refusal, and tells whether there were many.
func (r *refusals) add(who string) (many bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now := time.Now(); r.by == nil || now.Sub(r.begun) > time.Second {
		r.begun, r.by = now, map[string]int{}
	}
	r.by[who]++
	return r.by[who] > quickRefusals || len(r.by) > 1000*quickRefusals
}

// slowDown has who is refused wait, where that happens often.
func (a *API) slowDown(c *gin.Context, err error) {
	var p *client.Problem
	if !errors.As(err, &p) || p.Status != http.StatusUnauthorized && p.Status != http.StatusForbidden {
		return
	}
	who := c.Request.Header.Get("Authorization")
	if who == "" {
		who = addressOf(c.Request.Context())
	}
	if !a.refusals.add(who) {
		return
	}
	select {
	case <-time.After(refusalTime):
	case <-c.Request.Context().Done():
	}
}
