package paths

import (
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"oakbarrel/core/disk"
)

// What can be wrong with a pattern.
var (
	ErrBracket = errors.New("a [ is not closed")
	ErrDeep    = errors.New("** does not stand alone between slashes")
)

// Check tells what is wrong with a pattern: nil, [ErrBracket] or [ErrDeep].
func Check(pattern string) error {
	if _, err := filepath.Match(pattern, "x"); err != nil {
		return ErrBracket
	}
	for _, part := range Parts(filepath.FromSlash(pattern)) {
		if strings.Contains(part, "**") && part != "**" {
			return ErrDeep
		}
	}
	return nil
}

// mostFolders bounds how many folders one search looks into: whoever may make
// folders where a pattern leads must not keep it busy.
const mostFolders = 20000

// Find returns what fits an absolute pattern, in the order of paths. It enters no folder that ** stands
// for by a symbolic link; what cannot be read is passed over, and what stands in
// more than 20,000 folders.
func Find(pattern string) []string {
	s := search{left: mostFolders}
	found := s.find(Split(filepath.Clean(pattern)))
	slices.Sort(found)
	return slices.Compact(found) // where ** stands twice, a path fits in several ways
}

type search struct{ left int } // folders

// find returns what fits the parts of a pattern below a folder.
func (s *search) find(dir string, parts []string) (found []string) {
	for len(parts) > 0 && IsLiteral(parts[0]) {
		dir, parts = filepath.Join(dir, parts[0]), parts[1:]
	}
	if len(parts) == 0 {
		if _, err := disk.Lstat(dir); err == nil {
			found = []string{dir}
		}
		return found
	}
	if parts[0] == "**" {
		found = s.find(dir, parts[1:])
	}
	if s.left--; s.left < 0 {
		return found
	}
	entries, _ := disk.ReadDir(dir)
	for _, e := range entries {
		name, path := e.Name(), filepath.Join(dir, e.Name())
		switch {
		case parts[0] == "**":
			if e.IsDir() && !strings.HasPrefix(name, ".") {
				found = append(found, s.find(path, parts)...)
			}
		case !MatchPart(parts[0], name):
		case len(parts) == 1:
			found = append(found, path)
		case e.IsDir() || e.Type()&fs.ModeSymlink != 0:
			found = append(found, s.find(path, parts[1:])...)
		}
	}
	return found
}
