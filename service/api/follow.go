package api

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

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
func (a *API) follow(ctx context.Context, in *Range) (*huma.StreamResponse, error) {
	q, err := a.query(ctx, in)
	if err != nil {
		return nil, err
	}
	q.Limit, q.OldestFirst = math.MaxInt, true
	who := visitor(ctx).Owner()
	if !a.live.take(who, mostLive, mostLiveEach) {
		return nil, tooManyReaders()
	}
	wake, end := a.Hub.follow(q.Casks)
	stop := func() {
		end()
		a.live.leave(who)
	}
	at, err := a.Search.Now(ctx)
	if err != nil {
		stop()
		return nil, a.unavailable(ctx, err)
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		defer stop()
		c.SetHeader("Content-Type", "text/event-stream")
		c.SetHeader("Cache-Control", "no-store")
		a.stream(ctx, q, at, wake, humagin.Unwrap(c).Writer)
	}}, nil
}

// since finds what came since, in its turn among all readers.
func (a *API) since(ctx context.Context, q search.Query, at search.Position, each func(search.Hit) error) error {
	who := visitor(ctx).Owner()
	if err := a.seats.wait(ctx, who, mostSeats(), mostSeats()/2); err != nil {
		return err
	}
	defer a.seats.leave(who)
	return a.Search.Since(ctx, q, at, each)
}

// stream writes what comes after a position until nobody listens any more.
func (a *API) stream(ctx context.Context, q search.Query, at search.Position, wake <-chan struct{}, w gin.ResponseWriter) {
	fmt.Fprint(w, ": following\n\n")
	w.Flush()
	poll := time.NewTicker(pollTime)
	defer poll.Stop()
	for {
		err := a.since(ctx, q, at, func(h search.Hit) error {
			_, err := fmt.Fprintf(w, "data: %s\n\n", h.JSON)
			return err
		})
		if err != nil {
			if ctx.Err() == nil {
				a.Log.Error("a live view broke off", "why", err)
			}
			panic(http.ErrAbortHandler)
		}
		w.Flush()
		select {
		case <-ctx.Done():
			return
		case <-wake:
		case <-poll.C:
			fmt.Fprint(w, ":\n\n") // finds out whether anybody still listens
		}
	}
}
