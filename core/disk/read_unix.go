//go:build unix

package disk

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// Handle is a file that is open for reading.
type Handle = os.File

// Open opens a file for reading, as it is: of what others may have put there use
// [OpenRead] or [OpenRegular].
func Open(path string) (*Handle, error) { return os.Open(path) }

// Stat looks at a file; links are followed.
func Stat(path string) (fs.FileInfo, error) { return os.Stat(path) }

// Lstat looks at what stands at a path; a link is not followed.
func Lstat(path string) (fs.FileInfo, error) { return os.Lstat(path) }

// IsSame tells whether two looks were at one file.
func IsSame(a, b fs.FileInfo) bool { return os.SameFile(a, b) }

// SkipHole returns where the next bytes stand that are not of a hole, from an
// offset on. Found is false where there is nothing but a hole up to the end. An
// error says that the file system does not tell.
func SkipHole(f *Handle, from int64) (at int64, found bool, err error) {
	at, err = unix.Seek(int(f.Fd()), from, seekData)
	if errors.Is(err, unix.ENXIO) {
		return 0, false, nil
	}
	return at, err == nil, err
}

// IsFull tells whether an error says that the disk is full.
func IsFull(err error) bool { return errors.Is(err, unix.ENOSPC) }

// OpenRegular opens a regular file for reading. No part of its path may be a
// symbolic link, and a named pipe does not block.
func OpenRegular(path string) (*Handle, fs.FileInfo, error) {
	f, err := openPlain(path, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return nil, nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = ErrNotRegular
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, st, nil
}

func openPlain(path string, flags int) (*os.File, error) {
	flags |= unix.O_CLOEXEC
	fd, err := openWithoutLinks(unix.AT_FDCWD, path, flags)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(fd), path), nil
}

func isLink(st fs.FileInfo) bool { return st.Mode()&fs.ModeSymlink != 0 }

// isTrusted tells whether root made a link, or who owns what it leads to.
func isTrusted(_ string, link fs.FileInfo, _ string, target fs.FileInfo) bool {
	owner := OwnerOf(link).User
	return owner == 0 || owner == OwnerOf(target).User
}

func openPlainFolder(path string) (*os.File, error) {
	return openPlain(path, unix.O_RDONLY|unix.O_DIRECTORY)
}
