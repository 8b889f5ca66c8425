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

// ReadFile reads a whole file of our own.
func ReadFile(path string) ([]byte, error) { return os.ReadFile(path) }

// ReadDir returns what stands in a folder, in the order of names.
func ReadDir(path string) ([]fs.DirEntry, error) { return os.ReadDir(path) }

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
