package disk

import (
	"errors"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func changedOf(s *syscall.Stat_t) int64 { return s.Ctim.Nano() }

// FactsAt looks at what stands at a path; a link is not followed.
func FactsAt(path string) (Facts, error) {
	facts, err := statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW)
	if isUnknownCall(err) {
		st, err := os.Lstat(path)
		if err != nil {
			return Facts{}, err
		}
		return FactsOf(st), nil
	}
	return facts, err
}

// BirthOf returns when the inode was given to an open file, in nanoseconds since
// 1970, 0 where nothing tells.
func BirthOf(f *Handle) int64 {
	facts, _ := statx(int(f.Fd()), "", unix.AT_EMPTY_PATH)
	return facts.Birth
}

func statx(dir int, path string, flags int) (Facts, error) {
	var x unix.Statx_t
	if err := unix.Statx(dir, path, flags, unix.STATX_BASIC_STATS|unix.STATX_BTIME, &x); err != nil {
		return Facts{}, err
	}
	facts := Facts{
		Regular: x.Mode&unix.S_IFMT == unix.S_IFREG, Size: int64(x.Size), Written: time.Unix(x.Mtime.Sec, int64(x.Mtime.Nsec)), Changed: nanoseconds(x.Ctime),
		Device: unix.Mkdev(x.Dev_major, x.Dev_minor), Inode: x.Ino, Links: uint64(x.Nlink), Owner: x.Uid,
	}
	if x.Mask&unix.STATX_BTIME != 0 {
		facts.Birth = nanoseconds(x.Btime)
	}
	return facts, nil
}

// isUnknownCall tells whether an old kernel, or a sandbox, does not know a call.
func isUnknownCall(err error) bool { return errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) }

func nanoseconds(t unix.StatxTimestamp) int64 { return t.Sec*1e9 + int64(t.Nsec) }
