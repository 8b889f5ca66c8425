package roll

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"oakbarrel/core/disk"
)

// tallyTime is how long TallyNew reads pieces before it lets others do their
// part; it goes on with the next Tidy.
const tallyTime = time.Second

// TallyNew writes the lines of the pieces that have none, which Tidy does too.
// Where a piece was there before this run, its line says that it comes late. A
// piece that sorts before one that has a line is none of ours, and gets none.
func (w *Writer) TallyNew(ctx context.Context) error {
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
	fresh, unread := append([]Piece(nil), w.pieces[first:]...), w.unread
	w.mu.Unlock()
	for began := time.Now(); len(fresh) > 0; fresh = fresh[1:] {
		p := fresh[0]
		if time.Since(began) > tallyTime {
			w.wake()
			return nil
		}
		path, known := w.pathOf(p)
		if !known {
			continue
		}
		if w.settled != nil && !w.settled(path) || unread != nil && unread(path) {
			return nil
		}
		s := w.Settings()
		line := TallyLine{Event: Closed, Name: p.Name(), Size: p.Size, At: w.now(), Late: p.found, Early: p.early}
		if s.Format != nil {
			line.Format = s.Format.String()
		}
		read := func() error { return sum(ctx, path, s.Format, &line) }
		err := error(nil)
		if p.Size < 1<<20 {
			err = read() // a thread of its own would cost more
		} else {
			err = disk.InBackground(read)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist): // somebody took it away
			w.forget(p)
			continue
		case ctx.Err() != nil: // its line comes with the next start
			return nil
		case err != nil:
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
	w.mu.Lock()
	known, needed := w.known, len(w.pieces) > 0
	w.mu.Unlock()
	if w.tally != nil || !known {
		return nil
	}
	s := w.Settings()
	if _, err := disk.Lstat(s.Path + TallySuffix); err != nil && !needed {
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
	if err := sum(context.Background(), pieces[0].Path, nil, &oldest); err == nil && oldest.SHA256 != living[0].SHA256 {
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
	w.hash, w.lines, w.tail = w.tally.hash, w.tally.last, w.tally.tail
	w.mu.Unlock()
}

// Tally returns how many lines the tally has, and the hash of the last.
func (w *Writer) Tally() (lines int, hash string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.lines, w.hash
}

// TallyTail returns the hashes of the tally's last lines, at most 20, the last
// one last. The caller may not change it.
func (w *Writer) TallyTail() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.tail
}
