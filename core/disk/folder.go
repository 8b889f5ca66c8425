package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

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
