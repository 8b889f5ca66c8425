package roll

import "time"

// add adds the piece that the live file has become.
func (w *Writer) add(p Piece) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p.id = w.newID()
	w.pieces = append(w.pieces, p)
	w.size = 0
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

// Span returns when the first record of a piece was written, and when the last was, as far as the tally tells.
func (p Piece) Span() (first, last time.Time) {
	if p.Line == nil || p.Line.First == nil || p.Line.Last == nil {
		return p.Stamp, p.Stamp
	}
	return *p.Line.First, *p.Line.Last
}
