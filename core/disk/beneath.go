package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Beneath is a Disk that follows no symbolic link below a folder, at any depth,
// so that none leads it elsewhere. The folder itself may be one, and other
// paths are as with [OS].
func Beneath(folder string) Disk { return beneath{folder} }

type beneath struct{ root string }

const separator = string(filepath.Separator)

// below returns the rest of a path below the folder.
func (d beneath) below(path string) (rest string, ok bool) {
	return strings.CutPrefix(path, strings.TrimSuffix(d.root, separator)+separator)
}

// in calls f with a disk for the folder of path.
func (d beneath) in(path string, f func(Disk) error) error {
	if _, below := d.below(path); !below {
		return f(OS)
	}
	folder, err := openBeneath(d.root, filepath.Dir(path))
	if err != nil {
		return err
	}
	defer folder.Close()
	return f(folder)
}

func (d beneath) OpenAppend(path string, mode fs.FileMode) (file File, err error) {
	err = d.in(path, func(f Disk) (err error) { file, err = f.OpenAppend(path, mode); return err })
	return file, err
}

func (d beneath) Create(path string, mode fs.FileMode) (file File, err error) {
	err = d.in(path, func(f Disk) (err error) { file, err = f.Create(path, mode); return err })
	return file, err
}

func (d beneath) Rename(from, to string) error {
	return d.in(from, func(f Disk) error { return f.Rename(from, to) })
}

func (d beneath) RenameNew(from, to string) error {
	return d.in(from, func(f Disk) error { return f.RenameNew(from, to) })
}

func (d beneath) Remove(path string) error {
	return d.in(path, func(f Disk) error { return f.Remove(path) })
}

func (d beneath) SetTime(path string, t time.Time) error {
	return d.in(path, func(f Disk) error { return f.SetTime(path, t) })
}

func (d beneath) SyncFolder(path string) error {
	return d.in(filepath.Join(path, "x"), func(f Disk) error { return f.SyncFolder(path) })
}

// MakeFolder makes a folder and those above it, each in the one before.
func (d beneath) MakeFolder(path string) error {
	if err := os.MkdirAll(d.root, 0o755); err != nil {
		return err
	}
	rest, below := d.below(path)
	if !below {
		return OS.MakeFolder(path)
	}
	dir := d.root
	for _, name := range strings.Split(rest, separator) {
		dir = filepath.Join(dir, name)
		err := d.in(dir, func(f Disk) error { return os.Mkdir(f.(*Folder).Inside(dir), 0o755) })
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}
