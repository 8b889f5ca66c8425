package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"

	"golang.org/x/sys/unix"
)

// What is of Linux alone stands here, and what other systems have for it beside it.

const seekData = unix.SEEK_DATA

// openWithoutLinks opens a path of which no part may be a symbolic link.
func openWithoutLinks(above int, path string, flags int) (fd int, err error) {
	fd, err = unix.Openat2(above, path, &unix.OpenHow{Flags: uint64(flags), Resolve: unix.RESOLVE_NO_SYMLINKS})
	if errors.Is(err, unix.ENOSYS) { // an old kernel, which looks at the last part alone
		fd, err = unix.Openat(above, path, flags|unix.O_NOFOLLOW, 0)
		if errors.Is(err, unix.ENOTDIR) && isLinkAt(above, path) {
			err = unix.ELOOP
		}
	}
	return fd, err
}

func isLinkAt(above int, path string) bool {
	var st unix.Stat_t
	return unix.Fstatat(above, path, &st, unix.AT_SYMLINK_NOFOLLOW) == nil && st.Mode&unix.S_IFMT == unix.S_IFLNK
}

// Inside returns a path to a file of the folder that leads to this folder,
// whatever is in its place now.
func (f *Folder) Inside(path string) string {
	return "/proc/self/fd/" + strconv.Itoa(f.fd) + "/" + filepath.Base(path)
}

// PathOf returns where an open file stands now.
func PathOf(f *Handle) (string, error) {
	return os.Readlink(fmt.Sprintf("/proc/self/fd/%d", f.Fd()))
}

// IsOpenElsewhere tells whether somebody has a file open for writing.
func IsOpenElsewhere(f *Handle) bool {
	_, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	if err == nil {
		unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
	}
	return errors.Is(err, unix.EAGAIN)
}

func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system that cannot
		if _, missing := os.Lstat(to); errors.Is(missing, fs.ErrNotExist) {
			return os.Rename(from, to)
		}
		err = unix.EEXIST
	}
	return err
}

// lowerPriority gives the thread the lowest priority.
func lowerPriority() { unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), 19) }

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
