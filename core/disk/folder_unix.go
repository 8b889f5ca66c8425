//go:build unix

package disk

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// Folder is a Disk for the files of one folder, which stays the same folder
// whatever others put into its place. It changes nothing outside of it.
type Folder struct {
	dir string
	fd  int
}

// OpenFolder opens a folder. No part of its path may be a symbolic link.
func OpenFolder(dir string) (*Folder, error) { return openFolderAt(unix.AT_FDCWD, dir, dir) }

// openBeneath opens a folder that is below another one, or that one. A link leads to root at
// most, not below it.
func openBeneath(root, dir string) (*Folder, error) {
	fd, err := unix.Open(root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: root, Err: err}
	}
	if dir == root {
		return &Folder{dir, fd}, nil
	}
	defer unix.Close(fd)
	rest, _ := beneath{root}.below(dir)
	return openFolderAt(fd, rest, dir)
}

// openFolderAt opens a folder by its path below another one; dir is its whole path.
func openFolderAt(above int, path, dir string) (*Folder, error) {
	fd, err := openWithoutLinks(above, path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC)
	if errors.Is(err, unix.ELOOP) {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: errors.New("a part of the path is a symbolic link, and links are not followed; write the path that it leads to")}
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	return &Folder{dir, fd}, nil
}

// Lock keeps others who lock the folder out, and tells whether nobody has it locked.
func (f *Folder) Lock() bool { return unix.Flock(f.fd, unix.LOCK_EX|unix.LOCK_NB) == nil }

// Unlock lets others in again.
func (f *Folder) Unlock() { unix.Flock(f.fd, unix.LOCK_UN) }

// Close closes the folder.
func (f *Folder) Close() error { return unix.Close(f.fd) }

// OpenRead opens a file of the folder for reading. A link is not followed, and a
// named pipe does not block.
func (f *Folder) OpenRead(path string) (*Handle, error) { return f.openPlain(path, os.O_RDONLY) }

// OpenToCut opens a file of the folder likewise, for reading and for cutting.
func (f *Folder) OpenToCut(path string) (*Handle, error) { return f.openPlain(path, os.O_RDWR) }

func (f *Folder) openPlain(path string, flags int) (*Handle, error) {
	file, err := os.OpenFile(f.Inside(path), flags|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	return file, named(err, path)
}

// Lstat looks at what stands in the folder; a link is not followed.
func (f *Folder) Lstat(path string) (fs.FileInfo, error) {
	st, err := os.Lstat(f.Inside(path))
	return st, named(err, path)
}

func (f *Folder) SyncFolder(string) error { return unix.Fsync(f.fd) }
