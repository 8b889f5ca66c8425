package disk

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// Space returns the size of the disk of a folder, and what of it is free, in bytes.
func Space(folder string) (size, free int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(folder, &st); err != nil {
		return 0, 0, &fs.PathError{Op: "look at the disk of", Path: folder, Err: err}
	}
	return int64(st.Blocks) * st.Bsize, int64(st.Bavail) * st.Bsize, nil
}

// Existing returns a folder, or the nearest above it that exists.
func Existing(folder string) string {
	for {
		if _, err := os.Stat(folder); err == nil || folder == "/" {
			return folder
		}
		folder = filepath.Dir(folder)
	}
}

// Birth returns when a file was made, or where the file system does not tell,
// when it was last written.
func Birth(path string, st fs.FileInfo) time.Time {
	var x unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BTIME, &x); err == nil && x.Mask&unix.STATX_BTIME != 0 {
		return time.Unix(x.Btime.Sec, int64(x.Btime.Nsec))
	}
	return st.ModTime()
}
