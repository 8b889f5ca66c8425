package api

import (
	"context"
	"net/http"
	"runtime"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
)

// Bounds of what is done for readers at a time: searches, counts and looks at plans
// take memory and a core each.
const (
	seatTime     = 10 * time.Second // for which a request waits for a seat
	mostLive     = 256              // live views
	mostLiveEach = 64               // of one visitor
)

// mostSeats is how many such requests run at a time; of one visitor half as many.
func mostSeats() int { return max(8, 4*runtime.GOMAXPROCS(0)) }

// seats shares something out by visitor. The zero value is ready. It may be used by
// several goroutines at a time.
type seats struct {
	mu      sync.Mutex
	taken   int
	by      map[string]int
	changed chan struct{} // closed when one has left
}

// take takes a seat, where there is one of so many, and of so many of one visitor. Else
// it returns a channel that is closed once somebody has left.
func (s *seats) take(who string, most, each int) (changed <-chan struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by, s.changed = map[string]int{}, make(chan struct{})
	}
	if s.taken >= most || s.by[who] >= each {
		return s.changed
	}
	s.taken++
	s.by[who]++
	return nil
}

func (s *seats) leave(who string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken--
	if s.by[who]--; s.by[who] == 0 {
		delete(s.by, who)
	}
	close(s.changed)
	s.changed = make(chan struct{})
}

// wait takes a seat, and waits for one if need be, until ctx ends.
func (s *seats) wait(ctx context.Context, who string, most, each int) error {
	for {
		changed := s.take(who, most, each)
		if changed == nil {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func tooManyReaders() error {
	return withHeader(problem(http.StatusTooManyRequests, "more is read at a time than the service does", "come again in a moment, or ask for less"), "Retry-After", "2")
}

// seated lets a request in that takes memory and a core, in its turn.
func (a *API) seated(need huma.Middlewares) huma.Middlewares {
	return append(need, func(ctx huma.Context, next func(huma.Context)) {
		who := visitor(ctx.Context()).Owner()
		waiting, cancel := context.WithTimeout(ctx.Context(), seatTime)
		defer cancel()
		if a.seats.wait(waiting, who, mostSeats(), mostSeats()/2) != nil {
			answer(humagin.Unwrap(ctx), tooManyReaders())
			return
		}
		defer a.seats.leave(who)
		next(ctx)
	})
}

// readTime is for how long a reader may not take what is written to it.
const readTime = 30 * time.Second

// patientWriter ends an answer that is not read.
type patientWriter struct {
	gin.ResponseWriter
	deadlines *http.ResponseController
	set       time.Time
}

func endUnread(c *gin.Context) {
	w := &patientWriter{ResponseWriter: c.Writer, deadlines: http.NewResponseController(c.Writer)}
	w.deadlines.SetWriteDeadline(time.Time{}) // one of the request before
	c.Writer = w
}

// Unwrap lets [http.ResponseController] through.
func (w *patientWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Write implements [io.Writer].
func (w *patientWriter) Write(b []byte) (int, error) {
	if now := time.Now(); now.Sub(w.set) > time.Second {
		w.set = now
		w.deadlines.SetWriteDeadline(now.Add(readTime))
	}
	return w.ResponseWriter.Write(b)
}
