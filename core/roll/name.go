// Package roll writes and reads rolled sets. A set is a live file that grows, and the
// pieces that it leaves when it is rolled by size or time: compressed beside the
// writing, listed in a tally whose lines hold each other's hashes, and removed as
// keep says.
//
// A [Writer] owns the files of a set. One goroutine calls Write, WriteTaken, Tick and
// Roll; another may call Tidy, which compresses and removes. Before each write a note
// says what is about to be done, so that a kill leaves whole lines. A [Tended] is the
// same for a live file that another program writes. A [Reader] reads a set in the
// order of writing while it is being written, and [Verify] holds it against its tally.
//
// It knows package disk and nothing else of the project. Begin with [Writer].
package roll

import (
	"bytes"
	"encoding/json"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"oakbarrel/core/disk"
)

// Piece is one closed file of a rolled set.
type Piece struct {
	Path    string
	Stamp   time.Time  // when it was rolled, in UTC, to the second
	Number  int        // among the pieces of one second, from 1; of a counted piece among all, 1 for the newest
	Counted bool       // its name has a number instead of a stamp
	Size    int64      // bytes on disk
	Line    *TallyLine // that closed it, nil for none
	owed    []int64    // of each outlet that the piece waits for: how many records it had got by then
	id      int        // in the list of its writer
	found   bool       // it was there before this run
	early   bool       // it was rolled before its time, see inTime
}

func (p Piece) isEarly() bool { return p.early || p.Line != nil && p.Line.Early }

// bytes returns how many bytes the piece has uncompressed, as far as that is known.
func (p Piece) bytes() int64 {
	if p.Line != nil {
		return p.Line.Bytes
	}
	return p.Size
}

// before gives the order in which pieces were written.
func (p Piece) before(q Piece) int {
	if p.Counted && q.Counted {
		return q.Number - p.Number
	}
	if c := p.Stamp.Compare(q.Stamp); c != 0 || p.Counted != q.Counted {
		return c
	}
	return p.Number - q.Number
}

// Name returns the name of the piece without a compressor's suffix, as the tally has it.
func (p Piece) Name() string { return filepath.Base(plainName(p.Path)) }

// FileName returns the name of the piece's file.
func (p Piece) FileName() string { return filepath.Base(p.Path) }

// Compressed tells whether the piece is compressed, as its name says.
func (p Piece) Compressed() bool { return IsCompressed(p.Path) }

// IsCompressed tells whether a name says that a file is compressed in a form
// that [Decompress] reads.
func IsCompressed(path string) bool { return suffixOf(path) != "" }

// suffixOf returns ".zst", ".gz" or "".
func suffixOf(path string) string {
	for _, c := range compressions {
		if strings.HasSuffix(path, c.suffix) {
			return c.suffix
		}
	}
	return ""
}

const stampLayout = "20060102T150405Z"

// pieceName returns the path of an uncompressed piece of the set at live:
// "all.log" gives "all-20261125T101500Z.log", and "_002" after the stamp for a
// second one of the same second. The names sort in the order of writing.
func pieceName(live string, stamp time.Time, number int) string {
	dir, file := filepath.Split(live)
	ext := filepath.Ext(file)
	more := ""
	if number > 1 {
		more = fmt.Sprintf("_%03d", number)
	}
	return dir + strings.TrimSuffix(file, ext) + "-" + stamp.UTC().Format(stampLayout) + more + ext
}

// MostCounted is how many counted pieces a set may have: each roll renames them all.
const MostCounted = 100

// countedName returns the path of an uncompressed counted piece: "all.log.3".
func countedName(live string, number int) string { return live + "." + strconv.Itoa(number) }

// parsePiece reads the name of a piece of the set at live. It takes nothing
// but what pieceName gives, so that no other file is taken for a piece.
func parsePiece(live, path string) (Piece, bool) {
	file := filepath.Base(live)
	if text, ok := strings.CutPrefix(filepath.Base(plainName(path)), file+"."); ok {
		number, err := strconv.Atoi(text)
		return Piece{Path: path, Number: number, Counted: true}, err == nil && number > 0 && number <= 10*MostCounted && text == strconv.Itoa(number)
	}
	ext := filepath.Ext(file)
	name := strings.TrimSuffix(filepath.Base(path), suffixOf(path))
	name, ok1 := strings.CutPrefix(name, strings.TrimSuffix(file, ext)+"-")
	name, ok2 := strings.CutSuffix(name, ext)
	stampText, more, numbered := strings.Cut(name, "_")
	stamp, err := time.Parse(stampLayout, stampText)
	p := Piece{Path: path, Stamp: stamp, Number: 1}
	if numbered {
		p.Number, _ = strconv.Atoi(more)
	}
	plain := strings.TrimSuffix(path, suffixOf(path))
	return p, ok1 && ok2 && err == nil && filepath.Base(pieceName(live, p.Stamp, p.Number)) == filepath.Base(plain)
}

// Pieces lists the pieces of the set at live, in the order of writing. Where a
// piece stands there both plain and compressed, both are listed. Files with a
// number are taken for pieces only where the tally knows such ones: other
// programs leave them too.
func Pieces(live string) ([]Piece, error) { return list(live, tallyCounts(live)) }

// tallyCounts tells whether the tally of a set has pieces with numbers.
func tallyCounts(live string) bool {
	text, _ := disk.ReadSmall(live+TallySuffix, 1<<30)
	name, _ := json.Marshal(filepath.Base(live) + ".")
	name = append([]byte(`"name":`), name[:len(name)-1]...)
	for {
		_, after, found := bytes.Cut(text, name)
		if !found {
			return false
		}
		if len(after) > 0 && after[0]-'0' <= 9 {
			return true
		}
		text = after
	}
}

// list lists the pieces of a set, counted ones where they are asked for.
func list(live string, counted bool) ([]Piece, error) {
	dir := filepath.Dir(live)
	d, err := disk.Open(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	var pieces []Piece
	for _, name := range names {
		p, ok := parsePiece(live, filepath.Join(dir, name))
		if !ok || p.Counted && !counted {
			continue
		}
		if st, err := disk.Lstat(p.Path); err == nil && st.Mode().IsRegular() {
			p.Size = st.Size()
			if p.Counted {
				p.Stamp = st.ModTime().UTC().Truncate(time.Second)
			}
			pieces = append(pieces, p)
		}
	}
	slices.SortFunc(pieces, func(p, q Piece) int {
		if c := p.before(q); c != 0 {
			return c
		}
		return strings.Compare(p.Path, q.Path)
	})
	return pieces, nil
}

// LiveOf returns the path of the live file whose stamped piece, plain or
// compressed, has the given path; false where it has none of that form.
func LiveOf(path string) (live string, ok bool) {
	dir, file := filepath.Split(plainName(path))
	found := stampedName.FindStringSubmatch(file)
	if found == nil {
		return "", false
	}
	live = dir + found[1] + found[2]
	_, ok = parsePiece(live, path)
	return live, ok
}

var stampedName = regexp.MustCompile(`^(.*)-\d{8}T\d{6}Z(?:_\d+)?(\.[^.]*)?$`)

// CountedLiveOf is LiveOf for counted pieces, whose names other programs give too.
func CountedLiveOf(path string) (live string, ok bool) {
	plain := plainName(path)
	live = strings.TrimSuffix(plain, filepath.Ext(plain))
	p, ok := parsePiece(live, path)
	return live, ok && p.Counted
}
