// Package disktest has a disk for tests: it counts the calls that change
// files, and fails the ones a test chooses.
package disktest

import (
	"errors"
	"io/fs"
	"sync"
	"time"

	"oakbarrel/core/disk"
)

// ErrFault is the error of a call that a test made fail.
var ErrFault = errors.New("a fault made by a test")

// Disk passes calls on to the real disk unless Fault says otherwise. It may be
// used by several goroutines at a time; set Fault before the first call.
type Disk struct {
	// Fault is asked before the n-th call (from 1) that changes a file. An
	// error makes the call fail: a write then puts down the first half of its
	// bytes, any other call does nothing.
	Fault func(n int, op, path string) error

	mu    sync.Mutex
	calls int
}

// Calls returns how many calls there were.
func (d *Disk) Calls() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.calls
}

// DieAt returns a Fault that fails the n-th call and all after it, as a kill would.
func DieAt(n int) func(int, string, string) error {
	return func(call int, _, _ string) error {
		if call >= n {
			return ErrFault
		}
		return nil
	}
}

func (d *Disk) fault(op, path string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.calls++
	if d.Fault == nil {
		return nil
	}
	return d.Fault(d.calls, op, path)
}

func (d *Disk) file(op, path string, open func() (disk.File, error)) (disk.File, error) {
	if err := d.fault(op, path); err != nil {
		return nil, err
	}
	f, err := open()
	if err != nil {
		return nil, err
	}
	return &file{f, d, path}, nil
}

func (d *Disk) OpenAppend(path string, mode fs.FileMode) (disk.File, error) {
	return d.file("open", path, func() (disk.File, error) { return disk.OS.OpenAppend(path, mode) })
}

func (d *Disk) Create(path string, mode fs.FileMode) (disk.File, error) {
	return d.file("create", path, func() (disk.File, error) { return disk.OS.Create(path, mode) })
}

func (d *Disk) do(op, path string, call func() error) error {
	if err := d.fault(op, path); err != nil {
		return err
	}
	return call()
}

func (d *Disk) Rename(from, to string) error {
	return d.do("rename", from, func() error { return disk.OS.Rename(from, to) })
}

func (d *Disk) RenameNew(from, to string) error {
	return d.do("rename", from, func() error { return disk.OS.RenameNew(from, to) })
}

func (d *Disk) Remove(path string) error {
	return d.do("remove", path, func() error { return disk.OS.Remove(path) })
}

func (d *Disk) SetTime(path string, t time.Time) error {
	return d.do("time", path, func() error { return disk.OS.SetTime(path, t) })
}

func (d *Disk) MakeFolder(path string) error {
	return d.do("folder", path, func() error { return disk.OS.MakeFolder(path) })
}

func (d *Disk) SyncFolder(path string) error {
	return d.do("sync", path, func() error { return disk.OS.SyncFolder(path) })
}

type file struct {
	disk.File
	d    *Disk
	path string
}

func (f *file) Write(b []byte) (int, error) {
	if err := f.d.fault("write", f.path); err != nil {
		n, _ := f.File.Write(b[:len(b)/2])
		return n, err
	}
	return f.File.Write(b)
}

func (f *file) WriteAt(b []byte, offset int64) (int, error) {
	if err := f.d.fault("write", f.path); err != nil {
		n, _ := f.File.WriteAt(b[:len(b)/2], offset)
		return n, err
	}
	return f.File.WriteAt(b, offset)
}

func (f *file) Truncate(size int64) error {
	return f.d.do("truncate", f.path, func() error { return f.File.Truncate(size) })
}

func (f *file) Sync() error {
	return f.d.do("sync", f.path, f.File.Sync)
}

func (f *file) Chown(user, group int) error {
	return f.d.do("chown", f.path, func() error { return f.File.Chown(user, group) })
}
