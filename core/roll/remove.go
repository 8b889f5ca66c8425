package roll

import "fmt"

// Removal is a piece that was removed, and why.
type Removal struct {
	Piece
	Why string
}

// Debts tells of the outlets whose delivery pieces wait for: how many records
// each had got, and how many it has delivered or given up. nil is none.
type Debts interface {
	Taken() []int64
	Done() []int64
}

// SetDebts sets what pieces wait for before they are removed.
func (w *Writer) SetDebts(d Debts) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.debts = d
	for i := range w.pieces {
		w.pieces[i].owed = nil
	}
}

// SetUnread sets what tells whether a piece has still to be read. It is neither
// removed nor compressed before.
func (w *Writer) SetUnread(unread func(path string) bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.unread = unread
}

func (w *Writer) removeExcess(removed func(Removal)) error {
	w.incur()
	s, now := w.Settings(), w.now()
	if s.Hold {
		return nil
	}
	w.mu.Lock()
	debts, unread := w.debts, w.unread
	w.mu.Unlock()
	var done []int64
	if debts != nil {
		done = debts.Done()
	}
	unreadIDs := map[int]bool{}
	if pieces, _ := w.Pieces(); unread != nil {
		for _, p := range pieces {
			unreadIDs[p.id] = unread(p.Path)
		}
	}
	w.mu.Lock()
	why := s.Keep.excess(w.pieces, w.size, s, now, func(p Piece) bool { return owes(p.owed, done) || unreadIDs[p.id] })
	oldest := append([]Piece(nil), w.pieces[:len(why)]...)
	w.mu.Unlock()
	for i, p := range oldest {
		if err := w.remove(p, why[i], removed); err != nil {
			return err
		}
	}
	return nil
}

// incur notes what the new pieces wait for.
func (w *Writer) incur() {
	w.mu.Lock()
	debts, missing := w.debts, false
	for _, p := range w.pieces {
		missing = missing || p.owed == nil
	}
	w.mu.Unlock()
	if debts == nil || !missing {
		return
	}
	taken := debts.Taken()
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range w.pieces {
		if w.pieces[i].owed == nil {
			w.pieces[i].owed = taken
		}
	}
}

func owes(owed, done []int64) bool {
	for i := range done {
		if i < len(owed) && done[i] < owed[i] {
			return true
		}
	}
	return len(owed) < len(done)
}

// GiveUpOldest removes the oldest piece, because the disk has no more space
// than is to stay free. It tells whether there was one. It is for the goroutine of Tidy.
func (w *Writer) GiveUpOldest(removed func(Removal)) (bool, error) {
	pieces, _ := w.Pieces()
	if len(pieces) == 0 || w.Settings().Hold {
		return false, nil
	}
	return true, w.remove(pieces[0], byFloor, removed)
}

// remove tells the tally that a piece is removed, and removes it. Where the
// tally cannot be written, as on a full disk, the line waits.
func (w *Writer) remove(p Piece, why string, removed func(Removal)) error {
	line := TallyLine{Event: Removed, Name: p.Name(), Size: p.Size, At: w.now(), Why: why}
	if l := p.Line; l != nil {
		line.Piece, line.Records, line.First, line.Last, line.Bytes, line.SHA256, line.Format = l.Sequence, l.Records, l.First, l.Last, l.Bytes, l.SHA256, l.Format
		if p.Counted {
			line.Name = l.Name
		}
	}
	tallied := w.addLine(&line)
	w.names.Lock()
	path, known := w.pathOf(p)
	var err error
	if known {
		err = w.disk.Remove(path)
	}
	w.names.Unlock()
	if err != nil {
		return fmt.Errorf("remove: %w", err)
	}
	w.forget(p)
	removed(Removal{p, why})
	if tallied != nil && w.addLine(&line) != nil {
		w.pending = append(w.pending, line)
		return tallied
	}
	return nil
}
