package roll

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/disk"
)

// MaxLine is the longest line that is read from a set, in bytes. What a line
// has more is passed over.
const MaxLine = 1 << 20

// Reader reads a rolled set as one, the pieces in the order of writing and
// then the live file.
type Reader struct {
	live   string
	file   *disk.Handle // the live file, nil where there is none
	pieces []Piece
	follow bool
	opened map[int]*disk.Handle // the counted pieces: their names may be others by the time they are read
	// Hint, where it is set, tells whether a text may hold a line that is
	// wanted; lines of pieces that are not need not be read.
	Hint func(text []byte) bool

	lines map[string]*TallyLine // that closed the pieces, by their names; nil until it is asked for
}

// NewReader opens the set at live; the path of a piece stands for that piece alone. The pieces and the live file belong
// together: what is rolled meanwhile is neither missed nor seen twice. With
// follow, a line of the live file that has no end yet is left to Follow.
func NewReader(live string, follow bool) (*Reader, error) {
	if p, ok := onePiece(live); ok {
		return p, nil
	}
	for {
		f, err := disk.OpenRead(live)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		pieces, err := stablePieces(live)
		if err != nil || f == nil && len(pieces) == 0 {
			if f != nil {
				f.Close()
			}
			if err == nil {
				err = &fs.PathError{Op: "open", Path: live, Err: fs.ErrNotExist}
			}
			return nil, err
		}
		r := &Reader{live: live, file: f, pieces: once(pieces), follow: follow, opened: map[int]*disk.Handle{}}
		if r.openCounted() && (f == nil || isAt(f, live)) {
			return r, nil
		}
		r.Close() // rolled between the two looks
	}
}

// openCounted opens the counted pieces, and tells whether they have kept their
// names meanwhile.
func (r *Reader) openCounted() bool {
	for i, p := range r.pieces {
		if !p.Counted {
			continue
		}
		f, err := disk.OpenRead(p.Path)
		if err != nil {
			return false
		}
		r.opened[i] = f
		if !isAt(f, p.Path) {
			return false
		}
	}
	if len(r.opened) == 0 {
		return true
	}
	again, err := Pieces(r.live)
	return err == nil && slices.EqualFunc(r.pieces, once(again), func(p, q Piece) bool { return p.Path == q.Path || !p.Counted })
}

// onePiece returns the reader of a piece, where that is what the path leads to.
func onePiece(path string) (*Reader, bool) {
	live, ok := LiveOf(path)
	if !ok && suffixOf(path) == "" {
		return nil, false
	}
	st, err := disk.Stat(path)
	if err != nil || !st.Mode().IsRegular() {
		return nil, false
	}
	p, _ := parsePiece(live, path)
	p.Path = path
	return &Reader{live: live, pieces: []Piece{p}}, true
}

// stablePieces lists the pieces until two lists agree: a folder that changes
// while it is read may show a file that is compressed just then under neither name.
func stablePieces(live string) ([]Piece, error) {
	pieces, err := Pieces(live)
	for err == nil {
		before := pieces
		pieces, err = Pieces(live)
		if slices.EqualFunc(once(before), once(pieces), func(p, q Piece) bool { return p.before(q) == 0 }) {
			break
		}
	}
	return pieces, err
}

// once leaves one form of a piece that stands there plain and compressed.
func once(pieces []Piece) (kept []Piece) {
	for _, p := range pieces {
		if n := len(kept); n > 0 && kept[n-1].before(p) == 0 {
			kept = kept[:n-1]
		}
		kept = append(kept, p)
	}
	return kept
}

func isAt(f *disk.Handle, path string) bool {
	here, err1 := f.Stat()
	there, err2 := disk.Stat(path)
	return err1 == nil && err2 == nil && disk.IsSame(here, there)
}

// Close closes the live file.
func (r *Reader) Close() error {
	for _, f := range r.opened {
		f.Close()
	}
	if r.file == nil {
		return nil
	}
	return r.file.Close()
}

// Files returns how many files the set has: its pieces and the live file.
func (r *Reader) Files() int {
	if r.file == nil {
		return len(r.pieces)
	}
	return len(r.pieces) + 1
}

// Path returns the path of file i.
func (r *Reader) Path(i int) string {
	if i == len(r.pieces) {
		return r.live
	}
	return r.pieces[i].Path
}

// Closed returns the line of the tally that closed file i, nil where there is
// none or it cannot be told, as of counted pieces. A live file has none.
func (r *Reader) Closed(i int) *TallyLine {
	if i == len(r.pieces) {
		return nil
	}
	if r.lines == nil {
		r.lines = map[string]*TallyLine{}
		if t, err := ReadTally(r.live); err == nil {
			r.lines = t.ByName()
		}
	}
	if p := r.pieces[i]; !p.Counted {
		return r.lines[p.Name()]
	}
	return nil
}

// Rolled returns when file i was rolled, zero for the live file.
func (r *Reader) Rolled(i int) time.Time {
	if i == len(r.pieces) {
		return time.Time{}
	}
	return r.pieces[i].Stamp
}

// Lines calls each with every line of file i, without its newline. The line is
// valid until each returns; an error of each ends the reading and is returned.
// A piece that was removed meanwhile has no lines.
func (r *Reader) Lines(i int, each func(line []byte) error) error {
	if i == len(r.pieces) {
		rest, err := lines(r.file, each)
		if err == nil && r.follow {
			_, err = r.file.Seek(-int64(len(rest)), io.SeekCurrent)
		} else if err == nil && len(rest) > 0 {
			err = each(rest)
		}
		return err
	}
	f, err := r.openPiece(i)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return readBlocks(f, func(block []byte) error {
		if r.Hint != nil && !r.Hint(block) {
			return nil
		}
		for len(block) > 0 {
			line, after, _ := bytes.Cut(block, []byte{'\n'})
			block = after
			if r.Hint != nil && !r.Hint(line) {
				continue
			}
			if err := each(line[:min(len(line), MaxLine)]); err != nil {
				return err
			}
		}
		return nil
	})
}

// Tail returns the last n lines, of those that lines calls its function with,
// which meet a condition; nil is none.
func Tail(lines func(each func(line []byte) error) error, n int, meets func(line []byte) bool) ([]string, error) {
	var ring []string
	at := 0
	err := lines(func(line []byte) error {
		switch {
		case meets != nil && !meets(line):
		case len(ring) < n:
			ring = append(ring, string(line))
		default:
			ring[at] = string(line)
			at = (at + 1) % n
		}
		return nil
	})
	return append(ring[at:len(ring):len(ring)], ring[:at]...), err
}

// openPiece opens piece i.
func (r *Reader) openPiece(i int) (io.ReadCloser, error) {
	if f := r.opened[i]; f != nil {
		delete(r.opened, i)
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		return Decompress(f, r.pieces[i].Path)
	}
	return openPiece(r.pieces[i].Path)
}

// openPiece opens a piece, also where it has been compressed since it was listed.
func openPiece(path string) (io.ReadCloser, error) {
	f, err := Open(path)
	for _, c := range compressions {
		if errors.Is(err, fs.ErrNotExist) {
			f, err = Open(strings.TrimSuffix(path, suffixOf(path)) + c.suffix)
		}
	}
	return f, err
}

// lines reads up to the end and returns what stands there without a newline.
func lines(from io.Reader, each func([]byte) error) (rest []byte, err error) {
	b := bufio.NewReaderSize(from, 256<<10)
	var long []byte
	for {
		part, err := b.ReadSlice('\n')
		line := part
		if len(long) > 0 || err == bufio.ErrBufferFull {
			long = append(long, part[:min(len(part), MaxLine-len(long))]...)
			line = long
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err != nil {
			return line, endOf(err)
		}
		if err := each(bytes.TrimSuffix(line, []byte{'\n'})); err != nil {
			return nil, err
		}
		long = long[:0]
	}
}

func endOf(err error) error {
	if err == io.EOF {
		return nil
	}
	return err
}

// Follow goes on behind the last line of the live file that Lines has read
// and calls each with every new whole line, also while the set is rolled,
// until ctx ends.
func (r *Reader) Follow(ctx context.Context, each func(line []byte) error) error {
	var rest []byte
	last := Piece{}
	if n := len(r.pieces); n > 0 {
		last = r.pieces[n-1]
	}
	for {
		if r.file != nil {
			// Looked at before reading: what is rolled after that was not the end.
			rolled := !isAt(r.file, r.live)
			if err := r.newLines(&rest, each); err != nil {
				return err
			}
			if rolled {
				r.file.Close()
				if err := r.goOn(&last, true, each); err != nil {
					return err
				}
				continue
			}
		} else if err := r.goOn(&last, false, each); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// newLines reads the live file up to its present end.
func (r *Reader) newLines(rest *[]byte, each func([]byte) error) error {
	buf := make([]byte, 64<<10)
	for {
		n, err := r.file.Read(buf)
		*rest = append(*rest, buf[:n]...)
		for {
			line, after, found := bytes.Cut(*rest, []byte{'\n'})
			if !found {
				break
			}
			if err := each(line); err != nil {
				return err
			}
			*rest = after
		}
		if n == 0 || err != nil {
			return endOf(err)
		}
	}
}

// goOn reads the pieces behind last and opens the file that is live now. With
// seen, the first of these pieces is the live file that was read to its end.
func (r *Reader) goOn(last *Piece, seen bool, each func([]byte) error) error {
	next, err := NewReader(r.live, true)
	if errors.Is(err, fs.ErrNotExist) {
		r.file, r.pieces = nil, nil
		return nil
	}
	if err != nil {
		return err
	}
	for _, f := range r.opened {
		f.Close()
	}
	r.file, r.pieces, r.opened = next.file, next.pieces, next.opened
	for i, p := range r.pieces {
		if p.before(*last) <= 0 {
			continue
		}
		*last = p
		if seen {
			seen = false
			continue
		}
		if err := r.Lines(i, each); err != nil {
			return err
		}
	}
	return nil
}
