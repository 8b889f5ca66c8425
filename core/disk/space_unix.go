//go:build unix

package disk

import (
	"io/fs"

	"golang.org/x/sys/unix"
)

// Space returns the size of the disk of a folder, and what of it is free, in bytes.
func Space(folder string) (size, free int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(folder, &st); err != nil {
		return 0, 0, &fs.PathError{Op: "look at the disk of", Path: folder, Err: err}
	}
	return int64(st.Blocks) * int64(st.Bsize), int64(st.Bavail) * int64(st.Bsize), nil
}
