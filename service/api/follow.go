package api

import (
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// Hub wakes those who follow casks when these have grown. The zero Hub is
// ready. It may be used by several goroutines at a time.
type Hub struct {
	mu        sync.Mutex
	followers map[chan struct{}][]uint64
}

// Grown tells that casks have grown.
func (h *Hub) Grown(casks []uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for wake, wanted := range h.followers {
		if slices.ContainsFunc(wanted, func(c uint64) bool { return slices.Contains(casks, c) }) {
			select {
			case wake <- struct{}{}:
			default:
			}
		}
	}
}

func (h *Hub) follow(casks []uint64) (wake chan struct{}, stop func()) {
	wake = make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.followers == nil {
		h.followers = map[chan struct{}][]uint64{}
	}
	h.followers[wake] = casks
	return wake, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.followers, wake)
	}
}

// pollTime is how often a follower looks by itself: another service may have
// taken a batch.
const pollTime = time.Second

// follow streams what is committed from now on and meets the query, as
// server-sent events.
func (a *API) follow(c *gin.Context) {
	q, ok := a.query(c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	wake, stop := a.Hub.follow(q.Casks)
	defer stop()
	var last uint64
	if err := a.DB.WithContext(ctx).Model(&model.Block{}).Select("COALESCE(MAX(id), 0)").Scan(&last).Error; err != nil {
		a.unavailable(c, err)
		return
	}
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	fmt.Fprint(c.Writer, ": following\n\n")
	c.Writer.Flush()
	poll := time.NewTicker(pollTime)
	defer poll.Stop()
	for {
		err := a.Search.Since(ctx, q, &last, func(h search.Hit) error {
			_, err := fmt.Fprintf(c.Writer, "data: %s\n\n", h.JSON)
			return err
		})
		if err != nil {
			if ctx.Err() == nil {
				a.Log.Error("a live view broke off", "why", err)
			}
			panic(http.ErrAbortHandler)
		}
		c.Writer.Flush()
		select {
		case <-ctx.Done():
			return
		case <-wake:
		case <-poll.C:
			fmt.Fprint(c.Writer, ":\n\n") // finds out whether anybody still listens
		}
	}
}
