// Package roll writes and reads rolled sets: a live file that grows, and the
// pieces that it leaves when it is rolled, compressed and kept within limits.
//
// It knows package disk and nothing else of the project. Its central type is
// [Writer].
package roll

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Piece is one closed file of a rolled set.
type Piece struct {
	Path   string
	Stamp  time.Time // when it was rolled, in UTC, to the second
	Number int       // among the pieces of one second, from 1
	Size   int64     // bytes on disk
}

// before gives the order in which pieces were written.
func (p Piece) before(q Piece) int {
	if c := p.Stamp.Compare(q.Stamp); c != 0 {
		return c
	}
	return p.Number - q.Number
}

// Compressed tells whether the piece is compressed, as its name says.
func (p Piece) Compressed() bool { return suffixOf(p.Path) != "" }

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

// parsePiece reads the name of a piece of the set at live. It takes nothing
// but what pieceName gives, so that no other file is taken for a piece.
func parsePiece(live, path string) (Piece, bool) {
	file := filepath.Base(live)
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
// piece stands there both plain and compressed, both are listed.
func Pieces(live string) ([]Piece, error) {
	dir := filepath.Dir(live)
	d, err := os.Open(dir)
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
		if !ok {
			continue
		}
		if st, err := os.Lstat(p.Path); err == nil && st.Mode().IsRegular() {
			p.Size = st.Size()
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
