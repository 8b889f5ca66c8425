package roll

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"oakbarrel/core/disk"
)

// TallySuffix ends the name of a set's tally, behind that of its live file.
const TallySuffix = ".tally"

// What a line of a tally tells.
const (
	Closed  = "closed"  // the live file became a piece
	Removed = "removed" // a piece was removed, as keep says
)

// TallyLine is one line of a tally, a JSON object.
type TallyLine struct {
	Sequence int        `json:"sequence"` // from 1
	Event    string     `json:"event"`    // Closed or Removed
	Name     string     `json:"name"`     // of the piece when it was closed, without a compressor's suffix
	Piece    int        `json:"piece"`    // the sequence of the line that closed it, 0 for none
	Records  int64      `json:"records"`
	First    *time.Time `json:"first"` // the times of its first and its last record, nil where the format has none
	Last     *time.Time `json:"last"`
	Bytes    int64      `json:"bytes"`  // uncompressed
	Size     int64      `json:"size"`   // on disk, at this event
	SHA256   string     `json:"sha256"` // of the uncompressed bytes, in hexadecimal
	Format   string     `json:"format"` // in force when it was closed
	At       time.Time  `json:"at"`     // of the event
	Late     bool       `json:"late,omitempty"`
	Early    bool       `json:"early,omitempty"` // it was rolled before its time, because somebody ordered it
	Why      string     `json:"why,omitempty"`   // a piece was removed
	Previous string     `json:"previous"`        // the hash of the line before, "" for the first
}

// Tally is what a tally holds.
type Tally struct {
	Lines []TallyLine
	Hash  string // SHA-256 of the last line, without its newline; "" for none
	whole int64  // bytes of whole lines
	torn  bool   // what follows them is no whole line
}

// TallyError says that a tally was changed.
type TallyError struct {
	Line int // from 1
	What string
}

func (e *TallyError) Error() string { return fmt.Sprintf("line %d of the tally %s", e.Line, e.What) }

// ReadTally reads the tally of the set at live. One that is missing is empty.
// An error of type *[TallyError] says where it was changed; what stands before
// is returned.
func ReadTally(live string) (*Tally, error) {
	t := &Tally{}
	f, err := disk.OpenRead(live + TallySuffix)
	if errors.Is(err, fs.ErrNotExist) {
		return t, nil
	}
	if err != nil {
		return t, err
	}
	defer f.Close()
	b := bufio.NewReaderSize(f, 64<<10)
	for n := 1; ; n++ {
		line, err := b.ReadBytes('\n')
		if err == io.EOF {
			t.torn = len(line) > 0
			return t, nil
		}
		if err != nil {
			return t, err
		}
		if err := t.read(n, bytes.TrimSuffix(line, []byte{'\n'})); err != nil {
			return t, err
		}
		t.whole += int64(len(line))
	}
}

func (t *Tally) read(n int, text []byte) error {
	var line TallyLine
	if err := json.Unmarshal(text, &line); err != nil {
		return &TallyError{n, "cannot be read: " + err.Error()}
	}
	if line.Sequence != n {
		return &TallyError{n, fmt.Sprintf("has the sequence %d: a line was removed, added or moved", line.Sequence)}
	}
	if line.Previous != t.Hash {
		return &TallyError{n, "does not have the hash of the line before: that one was changed"}
	}
	t.Lines = append(t.Lines, line)
	t.Hash = hashOf(text)
	return nil
}

func hashOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Living returns the lines that closed the pieces which were not removed since.
func (t *Tally) Living() (living []TallyLine) {
	removed := map[int]bool{}
	for _, l := range t.Lines {
		if l.Event == Removed {
			removed[l.Piece] = true
		}
	}
	for _, l := range t.Lines {
		if l.Event == Closed && !removed[l.Sequence] {
			living = append(living, l)
		}
	}
	return living
}

// ByName returns the living lines by the names of their pieces. The names of
// counted pieces change, so that a line may be missing for them.
func (t *Tally) ByName() map[string]*TallyLine {
	lines := map[string]*TallyLine{}
	for _, l := range t.Living() {
		lines[l.Name] = &l
	}
	return lines
}

// tailLength is how many hashes of last lines are told.
const tailLength = 20

// tallyFile is a tally that is written. It is for one goroutine.
type tallyFile struct {
	file disk.File
	last int      // the sequence of the last line
	hash string   // of it
	tail []string // the hashes of the last lines, this one the last
	size int64
	torn bool // a write has failed in the middle of a line
}

// openTally opens the tally of a set for appending, and cuts a torn last line.
func openTally(d disk.Disk, live string, mode fs.FileMode) (*tallyFile, *Tally, error) {
	t, err := ReadTally(live)
	var changed *TallyError
	if err != nil && !errors.As(err, &changed) {
		return nil, nil, err
	}
	f, openErr := d.OpenAppend(live+TallySuffix, mode)
	if openErr != nil {
		return nil, nil, openErr
	}
	w := &tallyFile{file: f, last: len(t.Lines), hash: t.Hash, size: t.whole, torn: t.torn}
	for i := max(1, len(t.Lines)-tailLength+1); i < len(t.Lines); i++ {
		w.tail = append(w.tail, t.Lines[i].Previous)
	}
	if len(t.Lines) > 0 {
		w.tail = append(w.tail, t.Hash)
	}
	if changed != nil { // it goes on as it would: verify tells
		if st, e := f.Stat(); e == nil {
			w.size = st.Size()
		}
		w.torn = false
	}
	return w, t, err
}

// add writes a line down durably. It fills in its sequence and the hash of the
// line before.
func (w *tallyFile) add(line *TallyLine) error {
	if w.torn {
		if err := w.file.Truncate(w.size); err != nil {
			return err
		}
		w.torn = false
	}
	line.Sequence, line.Previous = w.last+1, w.hash
	if line.Event == Closed {
		line.Piece = line.Sequence
	}
	text, err := json.Marshal(line)
	if err != nil {
		return err
	}
	_, err = w.file.Write(append(text, '\n'))
	if err == nil {
		err = w.file.Sync()
	}
	if err != nil {
		w.torn = true
		return fmt.Errorf("tally: %w", err)
	}
	w.last, w.hash, w.size = line.Sequence, hashOf(text), w.size+int64(len(text))+1
	w.tail = append(w.tail[max(0, len(w.tail)-tailLength+1):len(w.tail):len(w.tail)], w.hash)
	return nil
}

// Format is the shape of the lines of a set.
type Format interface {
	// String returns the format as the plan has it.
	String() string
	// Time returns the time of the record in a line.
	Time(line []byte) (time.Time, bool)
}

// sum reads a piece, compressed or not, and fills in what a line tells of its content.
func sum(ctx context.Context, path string, format Format, line *TallyLine) error {
	f, err := openPiece(path)
	if err != nil {
		return err
	}
	defer f.Close()
	s := summer{hash: sha256.New()}
	if line.Bytes, err = io.CopyBuffer(struct{ io.Writer }{&s}, stopping{ctx, f}, make([]byte, 256<<10)); err != nil {
		return err
	}
	line.Records, line.SHA256 = s.records, hex.EncodeToString(s.hash.Sum(nil))
	if len(s.last) > 0 && s.open {
		line.Records++
	}
	if format != nil {
		line.First, line.Last = timeOf(format, s.first), timeOf(format, s.last)
	}
	return nil
}

func timeOf(format Format, line []byte) *time.Time {
	if t, ok := format.Time(line); ok {
		return &t
	}
	return nil
}

// summer counts and hashes what is written to it, and keeps its first line and its last.
type summer struct {
	hash interface {
		io.Writer
		Sum([]byte) []byte
	}
	records     int64
	first, last []byte
	began, open bool // the first line is whole; the last has no end yet
}

func (s *summer) Write(b []byte) (int, error) {
	s.hash.Write(b)
	s.records += int64(bytes.Count(b, []byte{'\n'}))
	if !s.began {
		line, _, whole := bytes.Cut(b, []byte{'\n'})
		s.first = append(s.first, line[:min(len(line), MaxLine-len(s.first))]...)
		s.began = whole
	}
	s.keepLast(b)
	return len(b), nil
}

func (s *summer) keepLast(b []byte) {
	if len(b) == 0 {
		return
	}
	line, goesOn := b, s.open
	switch end := bytes.LastIndexByte(b, '\n'); {
	case end == len(b)-1:
		line = b[:end]
		start := bytes.LastIndexByte(line, '\n') + 1
		goesOn = goesOn && start == 0
		line = line[start:]
	case end >= 0:
		line, goesOn = b[end+1:], false
	}
	if !goesOn {
		s.last = s.last[:0]
	}
	s.last = append(s.last, line[:min(len(line), MaxLine-len(s.last))]...)
	s.open = b[len(b)-1] != '\n'
}

// plainName returns the name of a piece without a compressor's suffix.
func plainName(path string) string {
	return strings.TrimSuffix(path, suffixOf(path))
}
