//go:build unix

package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

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

// only refuses a path that is not in the folder.
func (f *Folder) only(path string) (string, error) {
	if filepath.Dir(path) != f.dir {
		return "", fmt.Errorf("%s is not in the folder %s", path, f.dir)
	}
	return f.Inside(path), nil
}

// named gives an error the path as it was asked for.
func named(err error, path string) error {
	var wrong *fs.PathError
	if errors.As(err, &wrong) {
		return &fs.PathError{Op: wrong.Op, Path: path, Err: wrong.Err}
	}
	return err
}

func (f *Folder) OpenAppend(path string, mode fs.FileMode) (File, error) {
	inside, err := f.only(path)
	if err != nil {
		return nil, err
	}
	file, err := OS.OpenAppend(inside, mode)
	return file, named(err, path)
}

func (f *Folder) Create(path string, mode fs.FileMode) (File, error) {
	inside, err := f.only(path)
	if err != nil {
		return nil, err
	}
	os.Remove(inside) // what others have put there is not written into
	file, err := OS.Create(inside, mode)
	return file, named(err, path)
}

func (f *Folder) Rename(from, to string) error { return f.both(from, to, OS.Rename) }

func (f *Folder) RenameNew(from, to string) error { return f.both(from, to, OS.RenameNew) }

func (f *Folder) both(from, to string, rename func(string, string) error) error {
	a, err := f.only(from)
	if err != nil {
		return err
	}
	b, err := f.only(to)
	if err != nil {
		return err
	}
	err = rename(a, b)
	var wrong *os.LinkError
	if errors.As(err, &wrong) {
		err = &os.LinkError{Op: wrong.Op, Old: from, New: to, Err: wrong.Err}
	}
	return err
}

func (f *Folder) Remove(path string) error {
	inside, err := f.only(path)
	if err != nil {
		return err
	}
	return named(OS.Remove(inside), path)
}

func (f *Folder) SetTime(path string, t time.Time) error {
	inside, err := f.only(path)
	if err != nil {
		return err
	}
	return named(OS.SetTime(inside, t), path)
}

// MakeFolder does nothing: the folder is there.
func (f *Folder) MakeFolder(string) error { return nil }

func (f *Folder) SyncFolder(string) error { return unix.Fsync(f.fd) }
