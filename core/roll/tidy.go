package roll

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"golang.org/x/sys/unix"
)

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

// Tidy writes the lines of new pieces into the tally, removes the pieces that
// are not to be kept, then compresses those that are to be compressed, the
// oldest first. It goes on where one fails, and returns the errors together.
// Removals are told to removed.
func (w *Writer) Tidy(ctx context.Context, removed func(Removal)) error {
	var problems []error
	note := func(err error) {
		if err != nil {
			problems = append(problems, err)
		}
	}
	note(w.tallyNew())
	note(w.removeExcess(removed))
	s := w.Settings()
	if s.Compress != Zstd && s.Compress != Gzip {
		return errors.Join(problems...)
	}
	pieces, _ := w.Pieces()
	for _, p := range pieces {
		if p.Compressed() || p.Line == nil || ctx.Err() != nil {
			continue
		}
		note(w.compressPiece(ctx, p, s))
	}
	note(w.removeExcess(removed)) // total may have been exceeded meanwhile
	return errors.Join(problems...)
}

// tallyNew writes the lines of the pieces that have none. Where a piece was
// there before this run, its line says that it comes late. A piece that sorts
// before one that has a line is none of ours, and gets none.
func (w *Writer) tallyNew() error {
	if err := w.openTally(); err != nil {
		return err
	}
	if w.tally == nil { // nothing to tell yet; whoever makes a piece wakes the next Tidy
		return nil
	}
	w.mu.Lock()
	first := len(w.pieces)
	for first > 0 && w.pieces[first-1].Line == nil {
		first--
	}
	fresh := append([]Piece(nil), w.pieces[first:]...)
	w.mu.Unlock()
	for _, p := range fresh {
		path, known := w.pathOf(p)
		if !known {
			continue
		}
		if w.settled != nil && !w.settled(path) {
			return nil
		}
		s := w.Settings()
		line := TallyLine{Event: Closed, Name: p.Name(), Size: p.Size, At: w.now(), Late: p.found}
		if s.Format != nil {
			line.Format = s.Format.String()
		}
		if err := sum(path, s.Format, &line); errors.Is(err, fs.ErrNotExist) { // somebody took it away
			w.forget(p)
			continue
		} else if err != nil {
			return err
		}
		if !p.Compressed() {
			line.Size = line.Bytes // a program may have written into it after it was rolled
		}
		if err := w.addLine(&line); err != nil {
			return err
		}
		w.change(p, func(q *Piece) { q.Line, q.Size = &line, line.Size })
	}
	return nil
}

// openTally opens the tally, gives the pieces their lines, and removes those
// that a kill has left behind a line which says that they are removed.
func (w *Writer) openTally() error {
	s := w.Settings()
	w.mu.Lock()
	known, needed := w.known, len(w.pieces) > 0
	w.mu.Unlock()
	if _, err := os.Lstat(s.Path + TallySuffix); err == nil {
		needed = true
	}
	if w.tally != nil || !known || !needed {
		return nil
	}
	file, t, err := openTally(w.disk, s.Path, s.Mode)
	if file == nil {
		return err
	}
	if e := s.Owner.Give(file.file); e != nil {
		err = errors.Join(err, e)
	}
	if file.last == 0 {
		err = errors.Join(err, w.disk.SyncFolder(filepath.Dir(s.Path)))
	}
	w.tally = file
	w.setHash()
	var changed *TallyError
	if errors.As(err, &changed) {
		err = fmt.Errorf("%s was changed by somebody else: %w", s.Path+TallySuffix, err)
	}
	return errors.Join(err, w.match(t))
}

// match gives the pieces that were found the lines that closed them.
func (w *Writer) match(t *Tally) error {
	closed, removed := map[string]*TallyLine{}, map[string]bool{}
	for _, l := range t.Lines {
		if l.Event == Removed {
			removed[l.Name] = true
			delete(closed, l.Name)
			continue
		}
		closed[l.Name] = &l
		delete(removed, l.Name)
	}
	w.mu.Lock()
	pieces := append([]Piece(nil), w.pieces...)
	w.mu.Unlock()
	living := t.Living()
	counted := 0
	for _, p := range pieces {
		if p.Counted {
			counted++
		}
	}
	surplus := w.surplus(pieces, living, counted)
	for i, p := range pieces {
		switch {
		case p.Counted && i < surplus:
			if err := w.disk.Remove(p.Path); err != nil {
				return err
			}
			w.forget(p)
		case p.Counted:
			if at := i - surplus; at < len(living) {
				w.change(p, func(q *Piece) { q.Line = &living[at] })
			}
		case removed[p.Name()]:
			if err := w.disk.Remove(p.Path); err != nil {
				return err
			}
			w.forget(p)
		default:
			if l := closed[p.Name()]; l != nil {
				w.change(p, func(q *Piece) { q.Line = l })
			}
		}
	}
	return nil
}

// surplus returns how many of the oldest counted pieces have a line that says
// that they are removed: 1 after a kill between the line and the removal.
func (w *Writer) surplus(pieces []Piece, living []TallyLine, counted int) int {
	if counted <= len(living) || len(living) == 0 || counted != len(pieces) {
		return 0
	}
	var oldest TallyLine
	if err := sum(pieces[0].Path, nil, &oldest); err == nil && oldest.SHA256 != living[0].SHA256 {
		return 1
	}
	return 0
}

// addLine writes a line into the tally, and before it those that wait.
func (w *Writer) addLine(line *TallyLine) error {
	if w.tally == nil {
		return errors.New("the tally is not open")
	}
	for len(w.pending) > 0 {
		if err := w.tally.add(&w.pending[0]); err != nil {
			return err
		}
		w.pending = w.pending[1:]
	}
	err := w.tally.add(line)
	w.setHash()
	return err
}

func (w *Writer) setHash() {
	w.mu.Lock()
	w.hash, w.lines = w.tally.hash, w.tally.last
	w.mu.Unlock()
}

// Tally returns how many lines the tally has, and the hash of the last.
func (w *Writer) Tally() (lines int, hash string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.lines, w.hash
}

func (w *Writer) removeExcess(removed func(Removal)) error {
	w.incur()
	s, now := w.Settings(), w.now()
	if s.Hold {
		return nil
	}
	w.mu.Lock()
	debts := w.debts
	w.mu.Unlock()
	var done []int64
	if debts != nil {
		done = debts.Done()
	}
	w.mu.Lock()
	why := s.Keep.excess(w.pieces, w.size, now, func(p Piece) bool { return owes(p.owed, done) })
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

// change changes a piece of the list.
func (w *Writer) change(p Piece, f func(*Piece)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range w.pieces {
		if w.pieces[i].id == p.id {
			f(&w.pieces[i])
			return
		}
	}
}

// pathOf returns the path that a piece has now.
func (w *Writer) pathOf(p Piece) (path string, known bool) {
	w.change(p, func(q *Piece) { path, known = q.Path, true })
	return path, known
}

// forget takes a piece out of the list.
func (w *Writer) forget(p Piece) {
	w.names.Lock() // whoever renames pieces holds on to the list
	defer w.names.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range w.pieces {
		if w.pieces[i].id == p.id {
			w.pieces = append(w.pieces[:i], w.pieces[i+1:]...)
			return
		}
	}
}

// compressPiece compresses a piece at the lowest priority, in a thread of its
// own that ends with it.
func (w *Writer) compressPiece(ctx context.Context, p Piece, s Settings) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread()
		unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), 19)
		done <- w.compressNow(ctx, p, s)
	}()
	return <-done
}

func (w *Writer) compressNow(ctx context.Context, p Piece, s Settings) error {
	path, known := w.pathOf(p)
	if !known {
		return nil
	}
	c := compressorOf(s.Compress)
	part := partName(path + c.suffix)
	size, err := writeCompressed(ctx, w.disk, path, part, c, s.Level)
	if errors.Is(err, fs.ErrNotExist) { // somebody took it away
		w.forget(p)
		return nil
	}
	if err != nil {
		return fmt.Errorf("compress %s: %w", path, err)
	}
	w.names.Lock()
	defer w.names.Unlock()
	path, _ = w.pathOf(p) // it may have got another number
	if err := w.disk.RenameNew(part, path+c.suffix); err != nil {
		return err
	}
	if err := w.disk.SyncFolder(filepath.Dir(path)); err != nil {
		return err
	}
	w.change(p, func(q *Piece) { q.Path, q.Size = path+c.suffix, size })
	return w.disk.Remove(path)
}

// Span returns when the first record of a piece was written, and when the last was, as far as the tally tells.
func (p Piece) Span() (first, last time.Time) {
	if p.Line == nil || p.Line.First == nil || p.Line.Last == nil {
		return p.Stamp, p.Stamp
	}
	return *p.Line.First, *p.Line.Last
}
