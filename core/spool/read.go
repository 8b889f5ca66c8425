package spool

import (
	"math"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

// Numbers are a run of numbers of a feed, and why some of them have no record.
type Numbers struct {
	First uint64 `json:"first"`
	Last  uint64 `json:"last"` // First-1 where there are none
	Shed  [8]int `json:"shed"` // by severity, as the spool was full
	Lost  int    `json:"lost"` // by damage
}

// Batch is what a read has found: a run of numbers, and how many of them have records.
type Batch struct {
	Numbers
	Records int
	Twice   bool // its records may be in an older generation of the feed too
}

// Read calls each with the records behind those that were read before, in the
// order of their numbers, up to a number of records or about a number of bytes.
// Last is First-1 where there is nothing to read. The record is valid until each returns.
func (s *Spool) Read(maxRecords, maxBytes int, each func(number uint64, r *record.Record)) (Batch, error) {
	c := s.cursor
	s.mu.Lock()
	written := s.written
	s.reading = written + 1 // nothing that may be read now is shed meanwhile
	if c.sheddings != s.sheddings {
		c.close() // it may have looked ahead at what is gone
		c.sheddings = s.sheddings
	}
	s.mu.Unlock()
	c.lookAgain()
	last, twice := written, s.Feed().Twice >= c.at
	if twice { // a batch is all of it, or nothing
		last = min(last, s.Feed().Twice)
	}
	defer func() {
		s.mu.Lock()
		s.reading = c.at
		s.mu.Unlock()
	}()
	b := Batch{Numbers: Numbers{First: c.at, Last: c.at - 1}, Twice: twice}
	for bytes := 0; c.at <= last && b.Records < maxRecords && bytes < maxBytes; {
		lane, number, err := c.least()
		if err != nil {
			return b, err
		}
		if lane == nil || number > c.at {
			end := last // where the numbers without a record end
			if lane != nil {
				end = min(end, number-1)
			}
			s.account(&b, c.at, end)
			c.at, b.Last = end+1, end
			continue
		}
		each(number, &lane.record)
		bytes += lane.size
		b.Records++
		c.at, b.Last = number+1, number
	}
	if b.Last >= b.First {
		s.mu.Lock()
		s.inFlight = append(s.inFlight, b)
		s.mu.Unlock()
	}
	return b, nil
}

// account adds numbers without a record to a batch: they were shed, or are lost.
func (s *Spool) account(b *Batch, first, last uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	total := last - first + 1
	for _, r := range s.shed {
		if r.Last < first || r.First > last {
			continue
		}
		n := min(r.Last, last) - max(r.First, first) + 1
		b.Shed[r.Severity] += int(n)
		total -= n
	}
	b.Lost += int(total)
}

// Rewind makes Read begin again behind what is confirmed.
func (s *Spool) Rewind() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cursor != nil {
		s.cursor.close()
	}
	s.cursor = &cursor{spool: s, at: s.confirmed + 1, sheddings: s.sheddings}
	s.reading = s.confirmed + 1
	s.inFlight = nil
}

// countAfter counts the records with numbers above n.
func (s *Spool) countAfter(n uint64) (records int64, err error) {
	c := &cursor{spool: s, at: n + 1}
	defer c.close()
	for {
		lane, number, err := c.least()
		if err != nil || lane == nil {
			return records, err
		}
		c.at = number + 1
		records++
	}
}

// cursor merges the lanes by number.
type cursor struct {
	spool *Spool
	at    uint64 // the least number that is wanted
	lanes [lanes]laneCursor
	next  [lanes]uint64 // number of the record that each lane has read: below at where it is done with, none where no other came

	sheddings int // of the spool, when the lanes were opened
}

const none = math.MaxUint64

// laneCursor is a place in a lane.
type laneCursor struct {
	file   *disk.Handle
	path   string
	first  uint64 // of the chunk
	window window // on file
	offset int64  // behind the frame that is being read
	frame  reader
	left   uint32 // records of the frame that are not read
	number uint64
	record record.Record
	size   int // of the record
}

func (c *cursor) close() {
	for i := range c.lanes {
		if c.lanes[i].file != nil {
			c.lanes[i].file.Close()
		}
		c.lanes[i] = laneCursor{}
	}
	clear(c.next[:])
}

// lookAgain makes the lanes look whether more was written.
func (c *cursor) lookAgain() {
	for id, number := range c.next {
		if number == none {
			c.next[id] = 0
		}
	}
}

// least returns the lane with the least number from c.at on, nil for none.
func (c *cursor) least() (found *laneCursor, number uint64, err error) {
	number = none
	for id := range c.next {
		for c.next[id] < c.at {
			if err := c.advance(laneID(id)); err != nil {
				return nil, 0, err
			}
		}
		if c.next[id] < number {
			found, number = &c.lanes[id], c.next[id]
		}
	}
	return found, number, nil
}

// advance reads the next record of a lane.
func (c *cursor) advance(id laneID) error {
	l := &c.lanes[id]
	for l.left == 0 {
		more, err := c.nextFrame(id, l)
		if err != nil {
			return err
		}
		if !more {
			c.next[id] = none
			return nil
		}
	}
	before := len(l.frame.b)
	step, err := l.frame.record(&l.record)
	if err != nil {
		return err
	}
	l.left--
	l.number += step
	l.size = before - len(l.frame.b)
	c.next[id] = l.number
	return nil
}

// nextFrame loads the next frame of a lane that holds a number from c.at on.
func (c *cursor) nextFrame(id laneID, l *laneCursor) (bool, error) {
	for {
		if l.file == nil {
			if more, err := c.nextChunk(id, l); !more || err != nil {
				return false, err
			}
		}
		end := c.spool.chunkEnd(id, l.path, l.offset)
		if l.offset >= end {
			if !c.spool.hasChunkAfter(id, l.first) {
				return false, nil
			}
			l.file.Close()
			l.file = nil
			continue
		}
		f, size, err := l.window.readFrame(l.offset, end)
		if err == errDamaged {
			l.offset += size
			continue
		}
		if err != nil { // damaged too: what follows is found again
			l.offset = l.window.nextFrame(l.offset, end)
			continue
		}
		l.offset += size
		if f.last < c.at {
			continue
		}
		l.frame.b, l.left, l.number = f.body, f.records, f.first
		return true, nil
	}
}

// nextChunk opens the chunk behind the one that was read.
func (c *cursor) nextChunk(id laneID, l *laneCursor) (bool, error) {
	s := c.spool
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, ch := range s.lanes[id].chunks {
		if ch.first <= l.first && l.path != "" || ch.last < c.at {
			continue
		}
		f, err := disk.Open(ch.path)
		if err != nil {
			return false, err
		}
		l.file, l.path, l.first, l.offset = f, ch.path, ch.first, 0
		l.window = window{file: f, buffer: l.window.buffer[:0]}
		return true, nil
	}
	return false, nil
}

// chunkEnd returns how far a chunk is written; one that is gone is at its end.
func (s *Spool) chunkEnd(id laneID, path string, offset int64) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.lanes[id].chunks {
		if c.path == path {
			return c.size
		}
	}
	return offset
}

func (s *Spool) hasChunkAfter(id laneID, first uint64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := len(s.lanes[id].chunks)
	return n > 0 && s.lanes[id].chunks[n-1].first > first
}
