package api

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// Bounds of the bodies that are being read, or whose batches wait to be committed,
// in bytes. What is over is asked to come again: a service that is slower than its
// agents slows them down, and does not grow.
const (
	maxBlock   = 32 << 20  // one body
	maxWaiting = 96 << 20  // all of them
	maxSender  = 64 << 20  // those of one token, so that another one finds room at any time
	bodyPiece  = 256 << 10 // that room is taken for at a time, as it comes
)

// bodyTime is for how long a piece of a body is waited for, where the service does
// not say otherwise: whoever sends slower than 25 KiB/s is not a host that we know.
const bodyTime = 10 * time.Second

// room shares the memory for bodies out by sender. The zero room is ready. It may
// be used by several goroutines at a time.
type room struct {
	mu    sync.Mutex
	taken int64
	by    map[uint64]int64 // by the id of the token
}

// enter takes room for n bytes of a sender, and tells whether there was any.
func (r *room) enter(sender uint64, n int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.has(sender, n) {
		return false
	}
	if r.by == nil {
		r.by = map[uint64]int64{}
	}
	r.taken += n
	r.by[sender] += n
	return true
}

func (r *room) leave(sender uint64, n int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.taken -= n
	if r.by[sender] -= n; r.by[sender] == 0 {
		delete(r.by, sender)
	}
}

// fits tells whether there is room for n bytes of a sender now.
func (r *room) fits(sender uint64, n int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.has(sender, n)
}

// has tells whether there is room for n bytes of a sender. It is called with the lock.
func (r *room) has(sender uint64, n int64) bool {
	return r.taken+n <= maxWaiting && r.by[sender]+n <= maxSender
}

// body is what was read of a request, in the room that it takes.
type body struct {
	bytes.Buffer
	room   *room
	sender uint64
	taken  int64
}

func (b *body) release() { b.room.leave(b.sender, b.taken) }

// readBody reads the body of a batch. Room is taken for what has come, and not for
// what is announced, so that whoever announces much and sends nothing takes none.
func (a *API) readBody(c *gin.Context) (b *body, err error) {
	size, sender := c.Request.ContentLength, visitor(c.Request.Context()).TokenID
	if size > a.mostBlock() {
		return nil, a.tooLarge()
	}
	if !a.room.fits(sender, max(size, 0)) {
		return nil, noRoom()
	}
	b = &body{room: &a.room, sender: sender}
	deadlines := http.NewResponseController(c.Writer)
	defer deadlines.SetReadDeadline(time.Time{})
	for more := true; more; {
		deadlines.SetReadDeadline(time.Now().Add(a.patience()))
		if more, err = b.readPiece(c.Request.Body, size); err == nil && int64(b.Len()) > a.mostBlock() {
			err = a.tooLarge()
		}
		if err != nil {
			b.release()
			return nil, err
		}
	}
	return b, nil
}

// readPiece reads the next piece, and tells whether there may be more.
func (b *body) readPiece(from io.Reader, announced int64) (more bool, err error) {
	if !b.room.enter(b.sender, bodyPiece) {
		return false, noRoom()
	}
	b.taken += bodyPiece
	if b.Len() == 0 {
		b.Grow(bodyPiece + bytes.MinRead)
	} else if rest := announced - int64(b.Len()); rest > 0 && b.Available() < int(min(rest, bodyPiece)) { // no more than it has sent, and not what it only announces
		b.Grow(min(int(rest), b.Len()) + bytes.MinRead)
	}
	n, err := io.CopyN(&b.Buffer, from, bodyPiece)
	switch {
	case err == nil:
		return true, nil
	case err == io.EOF:
		b.room.leave(b.sender, bodyPiece-n)
		b.taken -= bodyPiece - n
		return false, nil
	case errors.Is(err, os.ErrDeadlineExceeded):
		return false, problem(http.StatusRequestTimeout, "the block comes too slowly", "a block is to come with 25 KiB a second at least")
	}
	return false, problem(http.StatusBadRequest, fmt.Sprintf("the block cannot be read: %v", err), "")
}

func (a *API) patience() time.Duration {
	if a.Patience > 0 {
		return a.Patience
	}
	return bodyTime
}

func (a *API) tooLarge() error {
	return problem(http.StatusRequestEntityTooLarge, "the block is too large", fmt.Sprintf("a block has at most %d KiB", a.mostBlock()>>10))
}

func noRoom() error {
	busy := problem(http.StatusTooManyRequests, "more batches wait to be committed than the service holds", "the agents hold theirs and come again")
	return withHeader(busy, "Retry-After", strconv.Itoa(1+rand.N(3)))
}
