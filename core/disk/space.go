package disk

import (
	"io/fs"
	"os"
	"path/filepath"

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

// blind are the file systems whose changes by others the kernel does not see,
// by their magic numbers (statfs(2)).
var blind = map[int64]bool{
	unix.NFS_SUPER_MAGIC: true, unix.SMB_SUPER_MAGIC: true, unix.SMB2_SUPER_MAGIC: true, unix.CIFS_SUPER_MAGIC: true,
	unix.FUSE_SUPER_MAGIC: true, unix.V9FS_MAGIC: true, unix.AFS_SUPER_MAGIC: true, unix.CODA_SUPER_MAGIC: true, unix.CEPH_SUPER_MAGIC: true,
}

// IsBlind tells whether the kernel does not tell what others change in a folder.
func IsBlind(folder string) bool {
	var st unix.Statfs_t
	return unix.Statfs(folder, &st) != nil || blind[int64(st.Type)]
}
