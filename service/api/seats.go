package api

import (
	"context"
	"net/http"
	"runtime"
	"slices"
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

// seats shares something out by visitor. Visitors who wait have their turn one after the
// other, however many requests each has. The zero value is ready. It may be used by
// several goroutines at a time.
type seats struct {
	mu    sync.Mutex
	taken int
	by    map[string]int
	lines map[string][]*waiter // requests that wait, the first of a visitor first
	turns []string             // the visitors of lines, in the order of their turns
}

type waiter struct {
	most, each int
	seated     chan struct{} // closed once it has its seat
}

// take takes a seat, where there is one of so many, and of so many of one visitor.
func (s *seats) take(who string, most, each int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.has(who, most, each)
}

// has is take, called with the lock.
func (s *seats) has(who string, most, each int) bool {
	if s.taken >= most || s.by[who] >= each {
		return false
	}
	if s.by == nil {
		s.by = map[string]int{}
	}
	s.taken++
	s.by[who]++
	return true
}

// inUse tells how many seats are taken.
func (s *seats) inUse() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.taken
}

// areWaitedFor tells whether somebody waits for a seat.
func (s *seats) areWaitedFor() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.turns) > 0
}

func (s *seats) leave(who string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken--
	if s.by[who]--; s.by[who] == 0 {
		delete(s.by, who)
	}
	for at := 0; at < len(s.turns); {
		next := s.turns[at]
		line := s.lines[next]
		if !s.has(next, line[0].most, line[0].each) {
			at++
			continue
		}
		close(line[0].seated)
		s.turns = slices.Delete(s.turns, at, at+1)
		if s.lines[next] = line[1:]; len(line) > 1 {
			s.turns = append(s.turns, next)
		} else {
			delete(s.lines, next)
		}
	}
}

// wait takes a seat, and waits for one if need be, until ctx ends.
func (s *seats) wait(ctx context.Context, who string, most, each int) error {
	s.mu.Lock()
	if s.has(who, most, each) {
		s.mu.Unlock()
		return nil
	}
	w := &waiter{most, each, make(chan struct{})}
	if s.lines == nil {
		s.lines = map[string][]*waiter{}
	}
	if s.lines[who] = append(s.lines[who], w); len(s.lines[who]) == 1 {
		s.turns = append(s.turns, who)
	}
	s.mu.Unlock()
	select {
	case <-w.seated:
		return nil
	case <-ctx.Done():
		s.giveUp(who, w)
		return ctx.Err()
	}
}

// giveUp takes one that waits out of its line, or off the seat that it has got meanwhile.
func (s *seats) giveUp(who string, w *waiter) {
	s.mu.Lock()
	at := slices.Index(s.lines[who], w)
	if at >= 0 {
		s.lines[who] = slices.Delete(s.lines[who], at, at+1)
		if len(s.lines[who]) == 0 {
			delete(s.lines, who)
			s.turns = slices.DeleteFunc(s.turns, func(of string) bool { return of == who })
		}
	}
	s.mu.Unlock()
	if at < 0 {
		s.leave(who)
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
