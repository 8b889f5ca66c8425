package roll

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sort"
	"sync"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

// Settings is how a set is rolled and kept, as the plan says.
type Settings struct {
	Path     string // of the live file, absolute
	Mode     fs.FileMode
	Owner    disk.Owner
	Size     int64 // bytes after which the live file is rolled, 0 for no limit
	Every    Every
	AtStart  bool           // each run begins a file
	Zone     *time.Location // whose wall clock Every is on; nil is the machine's
	Counted  bool           // pieces have numbers instead of stamps
	Keep     Keep
	Hold     bool // no piece is removed
	Compress Compression
	Level    int    // of the compression, as its tool counts; 0 for the tool's own
	Format   Format // of the lines, nil where it is not known
	Sync     Sync
	Floor    disk.Floor // of free space, which is not written into
}

// Sync is when what was written is made to survive a power cut.
type Sync string

// The ways.
const (
	SyncNever  Sync = ""
	SyncEach   Sync = "each" // before a write returns
	SyncSecond Sync = "1s"   // at each Tick
)

// chunk is how much one write puts down, in bytes. Larger ones are no faster,
// and a kill may tear one.
const chunk = 64 << 10

// Writer writes one rolled set. Write, Tick and Close are for one goroutine;
// Tidy is for another; the rest may be called by any.
type Writer struct {
	disk       disk.Disk
	now        func() time.Time
	path       string // of the live file
	intentPath string
	damaged    func(Damage) // is told of damage; nil where nobody is
	failed     bool         // the last write: the file may not be in its place any more

	file    disk.File  // the live file, nil while it cannot be opened
	intents *intentLog // nil until the live file is opened
	inode   uint64
	newLine bool      // the live file ends in the middle of a line that is not ours
	due     time.Time // when the period of the live file ends
	checked time.Time // when the live file was last looked at
	marks   []record.Mark
	places  map[string]int   // of the sources in marks
	noted   map[string]int64 // the marks that the file of intents tells
	dirty   bool             // written, and not synced
	begun   bool             // the file was opened in this run
	early   bool             // what is rolled now is rolled because somebody orders it

	settled func(path string) bool // whether a new piece is written to no more; nil where it never is

	tally   *tallyFile  // of the goroutine of Tidy, nil until it is opened
	pending []TallyLine // of pieces that went while the tally could not be written

	mu       sync.Mutex
	unread   func(path string) bool // whether somebody has still to read a piece; nil where nobody has
	settings Settings
	size     int64 // of the live file
	pieces   []Piece
	known    bool // pieces holds what is in the folder
	rolls    int
	ids      int
	hash     string   // of the tally's last line
	lines    int      // of the tally
	tail     []string // the hashes of its last lines
	debts    Debts
	names    sync.Mutex // held while pieces get other names
	rolled   chan struct{}
}

// NewWriter returns the writer of a set. It opens nothing yet: what is wrong
// with the file shows at the first Tick or Write. The file at intentPath, in a
// folder that exists, is the writer's own and must not change between runs. A
// value is put into rolled, which has room for one, when there may be work for Tidy.
func NewWriter(d disk.Disk, s Settings, intentPath string, rolled chan struct{}, now func() time.Time) *Writer {
	return &Writer{disk: d, now: now, path: s.Path, intentPath: intentPath, settings: s, rolled: rolled, places: map[string]int{}, noted: map[string]int64{}}
}

// Settings returns the settings in force.
func (w *Writer) Settings() Settings {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.settings
}

// Configure changes the settings, but for the path.
func (w *Writer) Configure(s Settings) {
	w.mu.Lock()
	s.Path = w.path
	w.settings = s
	w.mu.Unlock()
	w.wake()
}

// wake tells that there may be work for Tidy.
func (w *Writer) wake() {
	select {
	case w.rolled <- struct{}{}:
	default:
	}
}

// Due tells whether the period of the live file is over.
func (w *Writer) Due() bool { return !w.due.IsZero() && !w.now().Before(w.due) }

// Open tells whether the live file is open.
func (w *Writer) Open() bool { return w.file != nil }

// Rest closes the live file until it is written to again. It is for the
// goroutine of Write.
func (w *Writer) Rest() {
	w.drop()
	w.dropIntents()
}

// Pieces returns the closed pieces and the size of the live file.
func (w *Writer) Pieces() (pieces []Piece, live int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]Piece(nil), w.pieces...), w.size
}

// Rolls returns how often the live file was rolled by this writer.
func (w *Writer) Rolls() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.rolls
}

// open opens the live file, and the set around it.
func (w *Writer) open() (err error) {
	s := w.Settings()
	dir := filepath.Dir(s.Path)
	if err := w.disk.MakeFolder(dir); err != nil {
		return err
	}
	f, err := w.disk.OpenAppend(s.Path, s.Mode)
	if err != nil {
		return err
	}
	if err := s.Owner.Give(f); err != nil {
		f.Close()
		return err
	}
	defer func() {
		if err != nil {
			f.Close()
		}
	}()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if w.intents == nil {
		if err := w.recover(f, st); err != nil {
			return err
		}
		if st, err = f.Stat(); err != nil {
			return err
		}
	}
	if w.newLine, err = endsWithin(s.Path, st.Size()); err != nil {
		return err
	}
	if err := w.Adopt(); err != nil {
		return err
	}
	w.file, w.inode = f, inodeOf(st)
	w.setSize(st.Size())
	w.due = time.Time{}
	if st.Size() > 0 && !s.Every.Never() {
		w.due = s.Every.Next(s.in(st.ModTime()))
	}
	return nil
}

// Adopt finds the pieces of the set, if that was not done yet. It is for the
// goroutine of Write.
func (w *Writer) Adopt() error {
	if w.known {
		return nil
	}
	s := w.Settings()
	pieces, err := cleanUp(w.disk, s.Path, s.Counted || tallyCounts(s.Path))
	if err != nil {
		return err
	}
	tally, _ := ReadTally(s.Path) // what is wrong with it is told when it is opened
	closed := map[string]*TallyLine{}
	for _, l := range tally.Living() {
		closed[l.Name] = &l
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range pieces {
		pieces[i].id, pieces[i].found = w.newID(), true
		if l := closed[pieces[i].Name()]; l != nil && !pieces[i].Counted && l.Early {
			pieces[i].Line = l
		}
	}
	w.pieces, w.known = pieces, true
	w.wake()
	return nil
}

// in returns a moment on the clock that the settings go by.
func (s *Settings) in(t time.Time) time.Time {
	if s.Zone == nil {
		return t.Local()
	}
	return t.In(s.Zone)
}

// newID returns the id of a piece that is new in the list.
func (w *Writer) newID() int {
	w.ids++
	return w.ids
}

func (w *Writer) dropIntents() {
	if w.intents != nil {
		w.intents.file.Close()
	}
	w.intents = nil
}

// Rebase tells how far the marks of sources are written down elsewhere, so that
// the file of intents may begin anew. Those that it alone tells stay in it. It is
// for the goroutine of Write.
func (w *Writer) Rebase(written func(source string) int64) {
	if w.intents == nil || w.intents.at == 0 {
		return
	}
	w.intents.at, w.intents.inode = 0, 0
	first := intent{inode: w.inode, size: w.size}
	for source, offset := range w.noted {
		if offset <= written(source) {
			delete(w.noted, source)
			continue
		}
		first.marks = append(first.marks, record.Mark{Source: source, Offset: offset})
	}
	w.intents.append(first) // so that those before do not count; if it fails they still may
}

func (w *Writer) setSize(size int64) {
	w.mu.Lock()
	w.size = size
	w.mu.Unlock()
}

// endsWithin tells whether a file of that size ends without a line feed.
func endsWithin(path string, size int64) (bool, error) {
	if size == 0 {
		return false, nil
	}
	f, err := disk.OpenRead(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	var last [1]byte
	if _, err := f.ReadAt(last[:], size-1); err != nil {
		return false, err
	}
	return last[0] != '\n', nil
}

// Write appends lines, whole ones, and rolls before a line that would make the
// live file too large. It returns how many bytes of them are in a file: always
// whole lines. After an error the rest may be given again.
func (w *Writer) Write(lines []byte) (written int, err error) { return w.WriteTaken(lines, nil) }

// Taken says that with the line that ends at byte End of what is written, a
// source has been taken to a mark.
type Taken struct {
	End    int
	Record bool // the line is a record of the source, not only the end of what was read of it
	record.Mark
}

// WriteTaken is [Writer.Write] for lines of which some are from followed
// sources; taken is in the order of the lines. [Marks] tells of a mark from
// then on when its line is in a file.
func (w *Writer) WriteTaken(lines []byte, taken []Taken) (written int, err error) {
	if w.failed && w.file != nil { // somebody may have removed it to make room
		w.survey()
	}
	defer func() { w.failed = err != nil }()
	for written < len(lines) {
		if err := w.ready(); err != nil {
			return written, err
		}
		rest := lines[written:]
		n := wholeLines(rest, chunk)
		if err := w.Settings().Floor.Check(filepath.Dir(w.path)); err != nil {
			return written, err
		}
		size := w.Settings().Size
		if limit := size - w.earlyBytes(); size > 0 && w.size+int64(n) > limit {
			fit := bytes.LastIndexByte(rest[:max(0, min(int64(n), limit-w.size))], '\n') + 1
			switch {
			case fit > 0:
				n = fit
			case w.size == 0:
				n = wholeLines(rest, 0) // one line, however long
			default:
				if err := w.roll(w.now()); err != nil {
					return written, err
				}
				continue
			}
		}
		count := sort.Search(len(taken), func(i int) bool { return taken[i].End > written+n })
		n, err = w.put(rest[:n], w.marksOf(taken[:count]))
		written += n
		if err != nil {
			return written, err
		}
		taken = taken[count:]
	}
	return written, nil
}

// wholeLines returns the length of the whole lines within the first n bytes,
// or of the first line where that is longer.
func wholeLines(lines []byte, n int) int {
	if end := bytes.LastIndexByte(lines[:min(n, len(lines))], '\n'); end >= 0 {
		return end + 1
	}
	return bytes.IndexByte(lines, '\n') + 1
}

// ready opens the live file where it is not open, and rolls it where its period is over.
func (w *Writer) ready() error {
	if w.file == nil {
		if err := w.open(); err != nil {
			return err
		}
	}
	s := w.Settings()
	if s.AtStart && !w.begun {
		if err := w.roll(w.now()); err != nil {
			return err
		}
	}
	w.begun = true
	now := s.in(w.now())
	if !s.Every.Never() {
		if w.due.IsZero() {
			w.due = s.Every.Next(now)
		}
		if !now.Before(w.due) {
			if err := w.roll(w.due); err != nil {
				return err
			}
			w.due = s.Every.Next(now)
		}
	}
	return nil
}

// marksOf returns the furthest mark of each source.
func (w *Writer) marksOf(taken []Taken) []record.Mark {
	w.marks = w.marks[:0]
	clear(w.places)
	for i, t := range taken {
		if i > 0 && t.Source == taken[i-1].Source {
			last := &w.marks[w.places[t.Source]]
			last.Offset = max(last.Offset, t.Offset)
			continue
		}
		at, known := w.places[t.Source]
		if !known {
			at = len(w.marks)
			w.places[t.Source] = at
			w.marks = append(w.marks, t.Mark)
		}
		w.marks[at].Offset = max(w.marks[at].Offset, t.Offset)
	}
	return w.marks
}

// put writes whole lines to the live file, with the intent noted before: all
// of them, or none.
func (w *Writer) put(lines []byte, marks []record.Mark) (int, error) {
	given := len(lines)
	if w.newLine {
		lines = append([]byte{'\n'}, lines...)
	}
	if err := w.announce(intent{inode: w.inode, size: w.size, length: int64(len(lines)), marks: marks}); err != nil {
		return 0, err
	}
	if len(marks) > 0 && w.Settings().Sync == SyncEach {
		if err := w.intents.file.Sync(); err != nil {
			return 0, errors.Join(err, w.takeBack(0))
		}
	}
	if n, err := w.file.Write(lines); err != nil {
		return 0, errors.Join(err, w.takeBack(n))
	}
	w.setSize(w.size + int64(len(lines)))
	w.dirty = true
	if w.Settings().Sync == SyncEach {
		if err := w.file.Sync(); err != nil { // whether it is there nobody knows: it is written elsewhere
			w.setSize(w.size - int64(len(lines)))
			return 0, errors.Join(fmt.Errorf("sync %s: %w", w.path, err), w.takeBack(len(lines)), w.roll(w.now()))
		}
		w.dirty = false
	}
	w.newLine = false
	for _, m := range marks {
		w.noted[m.Source] = max(w.noted[m.Source], m.Offset) // a source that is read again may say less
	}
	return given, nil
}

// takeBack undoes a write of which n bytes are in the file, and its intent.
// Where it cannot, the next opening does.
func (w *Writer) takeBack(n int) (err error) {
	if n > 0 {
		err = w.file.Truncate(w.size)
	}
	if err == nil {
		err = w.announce(intent{inode: w.inode, size: w.size, void: true})
	}
	if err != nil {
		w.drop()
		w.dropIntents()
	}
	return err
}

// announce writes down what is about to be done.
func (w *Writer) announce(i intent) error {
	var err error
	if len(i.marks) > 0 && w.intents.inode != i.inode {
		err = w.intents.begin(intent{inode: i.inode, size: i.size})
	}
	if err == nil {
		err = w.intents.append(i)
	}
	if err != nil {
		return fmt.Errorf("note the write to %s: %w", w.path, err)
	}
	return nil
}

// drop closes the live file, so that the next write opens it again.
func (w *Writer) drop() {
	if w.file != nil {
		if w.dirty && w.Settings().Sync != SyncNever {
			w.file.Sync() // a failure does not change that it is closed
		}
		w.file.Close()
	}
	w.file, w.dirty = nil, false
}

// Tick does what the clock asks for: it opens the set where it is not open,
// rolls a file whose period is over, and looks whether the live file is still
// in its place. Call it about every second.
func (w *Writer) Tick() error {
	s := w.Settings()
	now, every := s.in(w.now()), s.Every
	if !every.Never() && every.Next(now).Before(w.due) { // the clock went back, or the plan changed
		w.due = every.Next(now)
	}
	if w.file != nil && now.Sub(w.checked) >= time.Second {
		w.checked = now
		if err := w.survey(); err != nil {
			return err
		}
	}
	if w.file != nil && w.dirty && s.Sync == SyncSecond {
		if err := w.sync(); err != nil {
			return err
		}
	}
	return w.ready()
}

// sync makes what was written durable. A file for which that fails is not
// trusted any more: it becomes a piece, and another is begun.
func (w *Writer) sync() error {
	err := w.file.Sync()
	w.dirty = false
	if err == nil {
		return nil
	}
	return errors.Join(fmt.Errorf("sync %s: %w", w.path, err), w.roll(w.now()))
}

// survey finds out whether somebody removed, renamed or cut the live file.
func (w *Writer) survey() error {
	path := w.path
	st, err := disk.Lstat(path)
	if err != nil || inodeOf(st) != w.inode {
		w.drop()
		return nil // the next opening tells what is wrong, if anything is
	}
	w.setSize(st.Size())
	return nil
}

// RollEarly is Roll before its time, because somebody orders it: Keep removes nothing
// sooner for it.
func (w *Writer) RollEarly() (rolled bool, err error) {
	w.early = true
	defer func() { w.early = false }()
	return w.Roll()
}

// earlyBytes returns how many bytes stand in pieces behind where the file would have been
// rolled last without any order. It is rolled at the size that they and it have together,
// so that no order changes where it is rolled.
func (w *Writer) earlyBytes() (bytes int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	first := len(w.pieces)
	for first > 0 && w.pieces[first-1].isEarly() {
		first--
	}
	early := w.pieces[first:]
	if len(early) == 0 {
		return 0
	}
	s, now := w.settings, w.now()
	ends := rolledAt(early, s, now)
	for i := len(early) - 1; i >= 0 && ends[i].IsZero(); i-- {
		if !s.Every.Never() && !now.Before(s.Every.Next(s.in(early[i].Stamp))) {
			break // of a period that is over
		}
		bytes += early[i].bytes()
	}
	if bytes+w.size > w.settings.Size { // the file begins behind where it would have been rolled
		return 0
	}
	return bytes
}

// Roll closes the live file, if it has any record, and tells whether it did.
// It is for the goroutine of Write.
func (w *Writer) Roll() (rolled bool, err error) {
	if err := w.ready(); err != nil || w.size == 0 {
		return false, err
	}
	return true, w.roll(w.now())
}

// Retire makes the live file a piece and begins no other: nothing more is to
// come for the set. An empty live file is removed. It is for the goroutine of Write.
func (w *Writer) Retire() error {
	if _, err := w.Roll(); err != nil {
		return err
	}
	w.Rest()
	st, err := disk.Lstat(w.path)
	if err != nil || !st.Mode().IsRegular() || st.Size() > 0 {
		return nil
	}
	return w.disk.Remove(w.path)
}

// roll closes the live file under the name of a piece and begins another. An
// empty file is left alone. The records are safe whatever fails: they stay in
// the live file, or are in the piece.
func (w *Writer) roll(at time.Time) error {
	if w.size == 0 {
		return nil
	}
	piece, err := w.rename(at)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) { // somebody took it away
			w.drop()
			return w.open()
		}
		return fmt.Errorf("roll: %w", err)
	}
	w.drop()
	piece.early = w.early
	w.add(piece)
	w.mu.Lock()
	w.rolls++
	w.mu.Unlock()
	w.wake()
	if err := w.disk.SyncFolder(filepath.Dir(w.path)); err != nil {
		return err
	}
	return w.open()
}

// rename gives the live file the name of a piece.
func (w *Writer) rename(at time.Time) (Piece, error) {
	s := w.Settings()
	if s.Counted {
		return w.renameCounted(at)
	}
	piece := w.next(at)
	err := w.disk.RenameNew(s.Path, piece.Path)
	for errors.Is(err, fs.ErrExist) { // a file that was not there when the set was opened
		piece.Number++
		piece.Path = pieceName(s.Path, piece.Stamp, piece.Number)
		err = w.disk.RenameNew(s.Path, piece.Path)
	}
	return piece, err
}

// renameCounted gives the live file the number 1, and those before it the next ones.
func (w *Writer) renameCounted(at time.Time) (Piece, error) {
	w.names.Lock()
	defer w.names.Unlock()
	if err := w.moveUp(); err != nil {
		return Piece{}, err
	}
	path := w.path
	piece := Piece{Path: countedName(path, 1), Stamp: at.UTC().Truncate(time.Second), Number: 1, Counted: true, Size: w.size}
	return piece, w.disk.RenameNew(path, piece.Path)
}

// moveUp gives each counted piece the next number, up to the first that is
// free. A kill in between leaves a number free, and all in order.
func (w *Writer) moveUp() error {
	byNumber := map[int]*Piece{}
	w.mu.Lock()
	for i := range w.pieces {
		if w.pieces[i].Counted {
			byNumber[w.pieces[i].Number] = &w.pieces[i]
		}
	}
	w.mu.Unlock()
	free := 1
	for byNumber[free] != nil {
		free++
	}
	for n := free - 1; n > 0; n-- {
		p := byNumber[n]
		to := countedName(w.path, n+1) + suffixOf(p.Path)
		if err := w.disk.RenameNew(p.Path, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		w.mu.Lock()
		p.Path, p.Number = to, n+1
		w.mu.Unlock()
	}
	return nil
}

// next returns the piece that the live file becomes. Its name sorts behind all
// others, also where the clock went back.
func (w *Writer) next(at time.Time) Piece {
	p := Piece{Stamp: at.UTC().Truncate(time.Second), Number: 1, Size: w.size}
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := len(w.pieces); n > 0 {
		if last := w.pieces[n-1]; !last.Counted && !p.Stamp.After(last.Stamp) {
			p.Stamp, p.Number = last.Stamp, last.Number+1
		}
	}
	p.Path = pieceName(w.path, p.Stamp, p.Number)
	return p
}

// Close closes the live file and the tally. What Write returned is in it.
// Neither Write nor Tidy may run.
func (w *Writer) Close() error {
	w.Rest()
	if w.tally != nil {
		w.tally.file.Close()
		w.tally = nil
	}
	return nil
}
