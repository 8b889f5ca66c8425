package tail

import (
	"oakbarrel/core/disk"
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

func isFolder(path string) bool {
	st, err := disk.Lstat(path)
	return err == nil && st.IsDir()
}
