package tail

import (
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"oakbarrel/core/disk"
	"oakbarrel/core/paths"
)

// Bounds of what one pattern may find.
const (
	mostFolders = 20_000
	mostDepth   = 40
)

// walk looks for what a pattern finds. It calls folder for each folder that it
// looks into, and found for each path that fits, which may be a link, with its
// path in a folder without links. A folder behind a link is looked into only
// where [disk.Resolve] lets it.
type walk struct {
	folder  func(path string)
	found   func(path, real string, entry fs.DirEntry)
	trouble func(path string, err error)
	folders int
}

// pattern looks for what fits an absolute pattern.
func (w *walk) pattern(pattern string) {
	dir, parts := paths.Split(pattern)
	for len(parts) > 1 && paths.IsLiteral(parts[0]) {
		dir, parts = filepath.Join(dir, parts[0]), parts[1:]
	}
	w.link(dir, dir, parts, 0)
}

// link looks into a folder behind a path on which links may stand.
func (w *walk) link(dir, at string, parts []string, depth int) {
	real, err := disk.Resolve(at)
	if err != nil {
		w.trouble(dir, err)
		return
	}
	w.parts(dir, real, parts, depth)
}

// parts looks into a folder; real is its path without links.
func (w *walk) parts(dir, real string, parts []string, depth int) {
	if len(parts) > 1 && paths.IsLiteral(parts[0]) {
		w.link(filepath.Join(dir, parts[0]), filepath.Join(real, parts[0]), parts[1:], depth)
		return
	}
	if depth > mostDepth || w.folders >= mostFolders {
		return
	}
	w.folders++
	err := disk.ReadFolder(real, func(e fs.DirEntry) bool {
		w.entry(dir, real, e, parts, depth)
		return true
	})
	if err != nil {
		w.trouble(dir, err)
		return
	}
	w.folder(real)
	if parts[0] == "**" && len(parts) > 2 { // what follows may begin here
		w.parts(dir, real, parts[1:], depth+1)
	}
}

// entry looks at what stands in a folder.
func (w *walk) entry(dir, real string, e fs.DirEntry, parts []string, depth int) {
	name := e.Name()
	path, at := filepath.Join(dir, name), filepath.Join(real, name)
	switch {
	case parts[0] == "**":
		if paths.MatchParts(parts[1:], []string{name}) {
			w.found(path, at, e)
		}
		if e.IsDir() && !strings.HasPrefix(name, ".") {
			w.parts(path, at, parts, depth+1)
		}
	case !paths.MatchPart(parts[0], name):
	case len(parts) == 1:
		w.found(path, at, e)
	case e.IsDir():
		w.parts(path, at, parts[1:], depth+1)
	case e.Type()&fs.ModeSymlink != 0:
		w.behind(path, at, parts[1:], depth+1)
	}
}

// behind looks into the folder that a link leads to, if it leads to one.
func (w *walk) behind(path, at string, parts []string, depth int) {
	real, err := disk.Resolve(at)
	if errors.Is(err, disk.ErrNowhere) {
		return
	}
	if err != nil {
		w.trouble(path, err)
		return
	}
	if isFolder(real) {
		w.parts(path, real, parts, depth)
	}
}

func isFolder(path string) bool {
	st, err := disk.Lstat(path)
	return err == nil && st.IsDir()
}
