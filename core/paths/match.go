// Package paths is the language of patterns for files, which files, exclude, tend
// and import have in common. All of it may be used by several goroutines at a time.
package paths

import (
	"path/filepath"
	"strings"
)

// Match tells whether a path fits a pattern: in each part of it, * stands for
// any run of characters, ? for one and […] for one of several; a part ** stands
// for any number of folders, also for none. A name that begins with a dot is
// only found by a part that does.
func Match(pattern, path string) bool {
	return MatchParts(Parts(pattern), Parts(path))
}

// Parts takes a path apart at its slashes.
func Parts(path string) []string { return strings.Split(path, Separator) }

// Split takes an absolute path apart: the folder that holds all, and the parts below it.
func Split(path string) (root string, parts []string) {
	root = filepath.VolumeName(path) + Separator
	return root, Parts(strings.TrimPrefix(path, root))
}

// IsAbs tells whether a path is absolute on this system.
func IsAbs(path string) bool { return filepath.IsAbs(path) }

// IsAbsElsewhere tells whether a path is absolute on some system.
func IsAbsElsewhere(path string) bool {
	isDrive := len(path) > 2 && (path[0]|0x20)-'a' < 26 && path[1] == ':' && (path[2] == '\\' || path[2] == '/')
	return isDrive || strings.HasPrefix(path, "/") || strings.HasPrefix(path, `\\`)
}

// Key returns what paths have in common that are one to the system.
func Key(path string) string { return fold(path) }

// MatchParts is [Match] for a pattern and a path that are taken apart at their slashes.
func MatchParts(pattern, path []string) bool {
	for len(pattern) > 0 {
		if pattern[0] == "**" {
			for skip := 0; skip <= len(path); skip++ {
				if MatchParts(pattern[1:], path[skip:]) {
					return true
				}
				if skip < len(path) && strings.HasPrefix(path[skip], ".") {
					return false
				}
			}
			return false
		}
		if len(path) == 0 || !MatchPart(pattern[0], path[0]) {
			return false
		}
		pattern, path = pattern[1:], path[1:]
	}
	return len(path) == 0
}

// MatchPart tells whether a name fits a part of a pattern that is not **.
func MatchPart(pattern, name string) bool {
	if strings.HasPrefix(name, ".") && !strings.HasPrefix(pattern, ".") {
		return false
	}
	found, err := filepath.Match(fold(pattern), fold(name))
	return err == nil && found
}

// Literal returns the part of a path before the first that is a pattern, or holds a place
// such as {app}: what it can lead to lies in there.
func Literal(path string) string {
	parts := Parts(path)
	for i, part := range parts {
		if !IsLiteral(part) || strings.Contains(part, "{") {
			return strings.Join(parts[:i], Separator)
		}
	}
	return path
}

// IsIn tells whether a path without patterns is a folder, or lies in it.
func IsIn(path, folder string) bool {
	path, folder = fold(path), fold(folder)
	return folder == "/" || path == folder || strings.HasPrefix(path, strings.TrimSuffix(folder, Separator)+Separator)
}

// IsLiteral tells whether a part of a pattern stands for itself.
func IsLiteral(part string) bool { return !strings.ContainsAny(part, `*?[\`) }
