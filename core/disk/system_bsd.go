//go:build darwin || freebsd

package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// These systems have commands that read and look at plans, and no agent: what only that
// needs does less here.

// openWithoutLinks opens a path whose last part may not be a symbolic link.
func openWithoutLinks(above int, path string, flags int) (fd int, err error) {
	return unix.Openat(above, path, flags|unix.O_NOFOLLOW, 0)
}

// Inside returns the path of a file of the folder.
func (f *Folder) Inside(path string) string { return filepath.Join(f.dir, filepath.Base(path)) }

// PathOf returns where an open file was opened.
func PathOf(f *Handle) (string, error) { return f.Name(), nil }

// IsOpenElsewhere cannot be told here.
func IsOpenElsewhere(*Handle) bool { return false }

func renameNew(from, to string) error {
	if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		return unix.EEXIST
	}
	return os.Rename(from, to)
}

func lowerPriority() {}

// IsBlind holds everywhere: what changes is looked for.
func IsBlind(string) bool { return true }

func changedOf(s *syscall.Stat_t) int64 { return changed(s).Nano() }

// FactsAt looks at what stands at a path; a link is not followed.
func FactsAt(path string) (Facts, error) {
	st, err := os.Lstat(path)
	if err != nil {
		return Facts{}, err
	}
	facts := FactsOf(st)
	facts.Birth = st.Sys().(*syscall.Stat_t).Birthtimespec.Nano()
	return facts, nil
}

// BirthOf returns when the inode was given to an open file, in nanoseconds since
// 1970, 0 where nothing tells.
func BirthOf(f *Handle) int64 {
	st, err := f.Stat()
	if err != nil {
		return 0
	}
	return st.Sys().(*syscall.Stat_t).Birthtimespec.Nano()
}
