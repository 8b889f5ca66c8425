package tail

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Match tells whether a path fits a pattern: in each part of it, * stands for
// any run of characters, ? for one and […] for one of several; a part ** stands
// for any number of folders, also for none. A name that begins with a dot is
// only found by a part that does.
func Match(pattern, path string) bool {
	return matchParts(strings.Split(pattern, "/"), strings.Split(path, "/"))
}

func matchParts(pattern, path []string) bool {
	for len(pattern) > 0 {
		if pattern[0] == "**" {
			for skip := 0; skip <= len(path); skip++ {
				if matchParts(pattern[1:], path[skip:]) {
					return true
				}
				if skip < len(path) && strings.HasPrefix(path[skip], ".") {
					return false
				}
			}
			return false
		}
		if len(path) == 0 || !matchPart(pattern[0], path[0]) {
			return false
		}
		pattern, path = pattern[1:], path[1:]
	}
	return len(path) == 0
}

func matchPart(pattern, name string) bool {
	if strings.HasPrefix(name, ".") && !strings.HasPrefix(pattern, ".") {
		return false
	}
	found, err := filepath.Match(pattern, name)
	return err == nil && found
}

func isLiteral(part string) bool { return !strings.ContainsAny(part, `*?[\`) }

// Bounds of what one pattern may find.
const (
	mostFolders = 20_000
	mostDepth   = 40
)

// walk looks for what a pattern finds. It calls folder for each folder that it
// looks into, and found for each path that fits, which may be a link.
type walk struct {
	folder  func(path string)
	found   func(path string, entry fs.DirEntry)
	trouble func(path string, err error)
	folders int
}

// pattern looks for what fits an absolute pattern.
func (w *walk) pattern(pattern string) {
	w.parts("/", strings.Split(strings.TrimPrefix(pattern, "/"), "/"), 0)
}

func (w *walk) parts(dir string, parts []string, depth int) {
	for len(parts) > 1 && isLiteral(parts[0]) {
		dir, parts = filepath.Join(dir, parts[0]), parts[1:]
	}
	if depth > mostDepth || w.folders >= mostFolders {
		return
	}
	w.folders++
	entries, err := os.ReadDir(dir)
	if err != nil {
		w.trouble(dir, err)
		return
	}
	w.folder(dir)
	deep := parts[0] == "**"
	for _, e := range entries {
		path, name := filepath.Join(dir, e.Name()), e.Name()
		switch {
		case deep:
			if matchParts(parts[1:], []string{name}) {
				w.found(path, e)
			}
			if e.IsDir() && !strings.HasPrefix(name, ".") {
				w.parts(path, parts, depth+1)
			}
		case !matchPart(parts[0], name):
		case len(parts) == 1:
			w.found(path, e)
		case w.leadsToFolder(path, e):
			w.parts(path, parts[1:], depth+1)
		}
	}
	if deep && len(parts) > 2 { // what follows may begin here
		w.parts(dir, parts[1:], depth+1)
	}
}

// leadsToFolder tells whether a path is a folder, or a link to one.
func (w *walk) leadsToFolder(path string, e fs.DirEntry) bool {
	if e.Type()&fs.ModeSymlink == 0 {
		return e.IsDir()
	}
	st, err := os.Stat(path)
	return err == nil && st.IsDir()
}
