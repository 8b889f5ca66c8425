package roll

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"oakbarrel/core/disk"
)

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
	note(w.TallyNew(ctx))
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
		note(disk.InBackground(func() error { return w.compressPiece(ctx, p, s) }))
	}
	note(w.removeExcess(removed)) // total may have been exceeded meanwhile
	return errors.Join(problems...)
}

// compressPiece puts the compressed copy of a piece in its place.
func (w *Writer) compressPiece(ctx context.Context, p Piece, s Settings) error {
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
