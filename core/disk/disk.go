// Package disk is where the core meets the machine. Nothing else of the core opens,
// changes or looks at a file, or asks the system for anything; a test keeps that.
//
// What changes files goes through a [Disk], so that a test can count, fail or cut
// short any change: [OS] is the real one, [Beneath] and [OpenFolder] are held to one
// folder whatever others put in its place. What only reads is functions: [FactsAt]
// tells what is known of a file without reading it, [OpenRead] and [OpenRegular]
// open what others may have put there, [Space] and [Floor] tell of the disk's room.
//
// It knows nothing else of the project. All of it may be used by several goroutines
// at a time.
package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Disk changes files. An implementation may be used by several goroutines at a
// time. Links are not followed in the last part of a path.
type Disk interface {
	// OpenAppend opens a regular file for appending and creates it where it is missing.
	OpenAppend(path string, mode fs.FileMode) (File, error)
	// Create opens an empty file for writing and empties what was there.
	Create(path string, mode fs.FileMode) (File, error)
	// Rename gives a file another name, in place of whatever has it.
	Rename(from, to string) error
	// RenameNew gives a file another name that nothing may have yet.
	RenameNew(from, to string) error
	// Remove removes a file; one that is missing already is no error.
	Remove(path string) error
	// SetTime sets when a file was last written.
	SetTime(path string, t time.Time) error
	// MakeFolder creates a folder and those above it, where they are missing.
	MakeFolder(path string) error
	// SyncFolder makes creations, renames and removals in a folder durable.
	SyncFolder(path string) error
}

// File is an open file that can be changed.
type File interface {
	// Write appends, or writes on where the file was created empty. It may write less than all, with an error.
	Write(b []byte) (int, error)
	// WriteAt writes at an offset; not for files opened for appending.
	WriteAt(b []byte, offset int64) (int, error)
	Truncate(size int64) error
	Sync() error
	// Chown changes whom the file belongs to; -1 leaves the user or the group.
	Chown(user, group int) error
	Stat() (fs.FileInfo, error)
	Close() error
}

// OS is the real disk.
var OS Disk = osDisk{}

type osDisk struct{}

// ErrNotRegular says that a path leads to something that is not a regular file.
var ErrNotRegular = errors.New("this is not a regular file")

// ErrLocked says that somebody else has a file locked.
var ErrLocked = errors.New("it is locked")

// ReadSmall reads a regular file that is not larger than most bytes.
func ReadSmall(path string, most int64) ([]byte, error) {
	f, err := OpenRead(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it is larger than %d KiB", most>>10)}
	}
	return b, err
}

func (osDisk) OpenAppend(path string, mode fs.FileMode) (File, error) {
	return open(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, mode)
}

func (osDisk) Create(path string, mode fs.FileMode) (File, error) {
	return open(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
}

func (osDisk) Rename(from, to string) error { return rename(from, to) }

func (osDisk) RenameNew(from, to string) error {
	err := renameNew(from, to)
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

func (osDisk) Remove(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (osDisk) MakeFolder(path string) error { return os.MkdirAll(path, 0o755) }

// WriteFile puts content into a file all at once: a reader sees the old
// content or the new, also after a crash.
func WriteFile(d Disk, path string, content []byte, mode fs.FileMode) error {
	part := path + ".part"
	f, err := d.Create(part, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = d.Rename(part, path)
	}
	if err == nil {
		err = d.SyncFolder(filepath.Dir(path))
	}
	return err
}
