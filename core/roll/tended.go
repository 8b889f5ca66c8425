package roll

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"time"

	"oakbarrel/core/disk"
)

// Tended is the rolled set of a file that another program writes. It is for
// one goroutine at a time.
type Tended struct {
	*Writer
	folder *disk.Folder
	settle time.Duration
}

// OpenTended opens the set of a file that another program writes. A renamed
// file is left alone for settle, and as long as anybody has it open for
// writing; with a settle of 0 it is copied, and its copies are nobody else's.
// What others may do to the folder leads to no file outside of it. To look only
// changes nothing: what a kill has left stays as it is.
func OpenTended(s Settings, settle time.Duration, lookOnly bool, now func() time.Time) (*Tended, error) {
	folder, err := disk.OpenFolder(filepath.Dir(s.Path))
	if err != nil {
		return nil, err
	}
	t := &Tended{Writer: NewWriter(folder, s, "", make(chan struct{}, 1), now), folder: folder, settle: settle}
	if settle > 0 {
		t.settled = t.isSettled
	}
	if lookOnly {
		err = t.survey()
	} else if err = t.Adopt(); err == nil && settle == 0 {
		err = t.dropUncut()
	}
	if err == nil && !lookOnly {
		err = t.openTally()
		var changed *TallyError
		if errors.As(err, &changed) {
			err = nil // verify tells
		}
	}
	if err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

// survey finds the pieces and their lines, and changes nothing.
func (t *Tended) survey() (err error) {
	path := t.settings.Path
	t.pieces, err = list(path, t.settings.Counted || tallyCounts(path))
	t.pieces, t.known = once(t.pieces), true
	tally, _ := ReadTally(path)
	living := tally.Living()
	for i := range t.pieces {
		for n := range living {
			if t.pieces[i].Counted && i+len(living) == n+len(t.pieces) || t.pieces[i].Name() == living[n].Name && !t.pieces[i].Counted {
				t.pieces[i].Line = &living[n]
			}
		}
	}
	return err
}

// Close closes the set.
func (t *Tended) Close() error {
	t.Writer.Close()
	return t.folder.Close()
}

// Due tells why the file is to be rolled, or why it is not.
func (t *Tended) Due() (due bool, why string, err error) {
	s := t.Settings()
	st, err := t.stat()
	if err != nil {
		return false, "", err
	}
	t.setSize(st.Size())
	if st.Size() == 0 {
		return false, "it is empty", nil
	}
	if s.Size > 0 && t.earlyBytes()+st.Size() >= s.Size {
		return true, fmt.Sprintf("it has %d bytes, and is rolled at %d", st.Size(), s.Size), nil
	}
	if s.Every.Never() {
		return false, fmt.Sprintf("it has %d bytes, and is rolled at %d", st.Size(), s.Size), nil
	}
	at := s.Every.Next(s.in(t.began(st)))
	if now := t.now(); now.Before(at) {
		return false, "it is rolled at " + at.Format("2006-01-02 15:04:05 -07:00"), nil
	}
	return true, "its period ended at " + at.Format("2006-01-02 15:04:05 -07:00"), nil
}

// Size returns the size of the file as Due has seen it, in bytes.
func (t *Tended) Size() int64 {
	_, size := t.Pieces()
	return size
}

// began returns when the period of the live file began: with the roll before,
// else when the file was made.
func (t *Tended) began(st fs.FileInfo) time.Time {
	if n := len(t.pieces); n > 0 {
		return t.pieces[n-1].Stamp
	}
	return disk.Made(t.folder.Inside(t.settings.Path), st)
}

// stat looks at the file. It must be a file of its own: a link to another, of
// either kind, is not touched.
func (t *Tended) stat() (fs.FileInfo, error) {
	path := t.settings.Path
	st, err := t.folder.Lstat(path)
	if err != nil {
		return nil, err
	}
	return st, ownFile(path, st)
}

func ownFile(path string, st fs.FileInfo) error {
	switch {
	case !st.Mode().IsRegular():
		return &fs.PathError{Op: "tend", Path: path, Err: errors.New("it is a link or no file at all, and is left alone")}
	case disk.FactsOf(st).Links > 1:
		return &fs.PathError{Op: "tend", Path: path, Err: errors.New("it has another name somewhere (a hard link), and is left alone")}
	}
	return nil
}

// Rename makes the file a piece. The program goes on to write into it until it
// opens its file again.
func (t *Tended) Rename() (piece string, err error) {
	st, err := t.stat()
	if err != nil {
		return "", err
	}
	t.setSize(st.Size())
	p, err := t.rename(t.now())
	if err != nil {
		return "", err
	}
	p.early = t.early
	// Somebody may have put another file there between the two looks.
	if now, err := t.folder.Lstat(p.Path); err != nil || !disk.IsSame(st, now) {
		t.disk.RenameNew(p.Path, t.settings.Path)
		return "", fmt.Errorf("%s was replaced while it was looked at; it is left alone", t.settings.Path)
	}
	t.add(p)
	return p.Path, t.disk.SyncFolder("")
}

// Early has what is rolled until it is called again come before its time, because
// somebody orders it: Keep removes nothing sooner for it.
func (t *Tended) Early(early bool) { t.early = early }

// Copy copies the file aside and cuts it to nothing. What the program writes
// between the last read and the cut is lost; window is that time.
func (t *Tended) Copy() (piece string, window time.Duration, err error) {
	path := t.settings.Path
	f, err := t.folder.OpenToCut(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err == nil {
		err = ownFile(path, st)
	}
	if err != nil {
		return "", 0, err
	}
	p := t.next(t.now())
	p.early = t.early
	if t.Settings().Counted {
		p.Path = countedName(path, 1)
	}
	part := partName(p.Path)
	out, err := t.disk.Create(part, st.Mode().Perm())
	if err != nil {
		return "", 0, err
	}
	defer func() {
		out.Close()
		if err != nil && piece == "" {
			t.disk.Remove(part)
		}
	}()
	if err = disk.OwnerOf(st).Give(out); err != nil {
		return "", 0, err
	}
	if p.Size, err = io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{f}, make([]byte, 256<<10)); err != nil {
		return "", 0, err
	}
	if err = out.Sync(); err != nil {
		return "", 0, err
	}
	if t.Settings().Counted {
		if err = t.freeFirst(); err != nil {
			return "", 0, err
		}
		p.Number, p.Counted = 1, true
	}
	if err = t.disk.RenameNew(part, p.Path); err != nil {
		return "", 0, err
	}
	piece = p.Path
	if err = t.disk.SyncFolder(""); err != nil {
		return piece, 0, t.undoCopy(p, err)
	}
	// What came meanwhile is most of what could be lost.
	more, last, err := rest(f, out)
	if err == nil {
		err = out.Sync()
	}
	if err == nil {
		var again int64
		again, last, err = rest(f, out)
		more += again
	}
	if err == nil {
		err = f.Truncate(0)
	}
	if err != nil {
		return piece, 0, t.undoCopy(p, err)
	}
	window = time.Since(last)
	p.Size += more
	t.add(p)
	return piece, window, nil
}

// undoCopy removes a copy whose original could not be cut.
func (t *Tended) undoCopy(p Piece, why error) error {
	return errors.Join(why, t.disk.Remove(p.Path))
}

// dropUncut removes a copy that a kill has left before the original was cut:
// the original still has all of it.
func (t *Tended) dropUncut() error {
	n := len(t.pieces)
	if n == 0 || t.pieces[n-1].Compressed() {
		return nil
	}
	p := t.pieces[n-1]
	tally, err := ReadTally(t.settings.Path)
	if err != nil {
		return nil // verify tells
	}
	if tally.ByName()[p.Name()] != nil && !p.Counted {
		return nil
	}
	if p.Counted && len(tally.Living()) >= n || !t.begins(p.Path) {
		return nil
	}
	t.pieces = t.pieces[:n-1]
	return t.disk.Remove(p.Path)
}

// begins tells whether the live file begins with the whole content of a piece.
func (t *Tended) begins(piece string) bool {
	a, err1 := disk.OpenRead(t.folder.Inside(piece))
	b, err2 := disk.OpenRead(t.folder.Inside(t.settings.Path))
	if err1 != nil || err2 != nil {
		return false
	}
	defer a.Close()
	defer b.Close()
	x, y := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(a, x)
		if n == 0 {
			return err == io.EOF
		}
		if _, err := io.ReadFull(b, y[:n]); err != nil || !bytes.Equal(x[:n], y[:n]) {
			return false
		}
	}
}

// rest copies what has been appended meanwhile, and returns when the last read began.
func rest(f *disk.Handle, out disk.File) (more int64, last time.Time, err error) {
	b := make([]byte, 256<<10)
	for {
		last = time.Now()
		n, err := f.Read(b)
		if n > 0 {
			if _, err := out.Write(b[:n]); err != nil {
				return more, last, err
			}
			more += int64(n)
			continue
		}
		if err != nil && err != io.EOF {
			return more, last, err
		}
		return more, last, nil
	}
}

// freeFirst moves the counted pieces up, so that the first number is free.
func (t *Tended) freeFirst() error {
	t.names.Lock()
	defer t.names.Unlock()
	return t.moveUp()
}

// isSettled tells whether a piece that was renamed is left by its program: its
// time has passed, and nobody has it open for writing. Where that cannot be
// told, the time decides.
func (t *Tended) isSettled(path string) bool {
	f, err := t.folder.OpenRead(path)
	if err != nil {
		return errors.Is(err, fs.ErrNotExist)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil || ownFile(path, st) != nil {
		return false
	}
	if t.now().Sub(time.Unix(0, disk.FactsOf(st).Changed)) < t.settle {
		return false
	}
	return !disk.IsOpenElsewhere(f)
}

// Unsettled tells whether pieces wait for their program to leave them.
func (t *Tended) Unsettled() bool {
	n := len(t.pieces)
	return n > 0 && t.pieces[n-1].Line == nil
}
