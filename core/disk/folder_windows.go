package disk

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/windows"
)

// Folder is a Disk for the files of one folder, which stays the same folder: while it is
// open, neither it nor one above it can be renamed or removed. It changes nothing outside of it.
type Folder struct {
	dir    string
	handle windows.Handle
	lock   windows.Handle // 0 where it is not locked
}

// OpenFolder opens a folder. No part of its path may be a link.
func OpenFolder(dir string) (*Folder, error) { return openBeneath("", dir) }

// openBeneath opens a folder that is below another one, or that one. A link leads to root at
// most, not below it.
func openBeneath(root, dir string) (*Folder, error) {
	name, err := native(dir)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.FILE_LIST_DIRECTORY, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	// Only now: what is open stays where it is.
	if err := withoutLinks(root, dir); err != nil {
		windows.CloseHandle(h)
		return nil, err
	}
	return &Folder{dir: dir, handle: h}, nil
}

// withoutLinks tells that no part of a path below root is a link.
func withoutLinks(root, path string) error {
	for at := filepath.Clean(path); len(at) > len(root) && at != filepath.Dir(at); at = filepath.Dir(at) {
		st, err := os.Lstat(at)
		if err != nil {
			return err
		}
		if isLink(st) {
			return &fs.PathError{Op: "open", Path: path, Err: errors.New("a part of the path is a symbolic link, and links are not followed; write the path that it leads to")}
		}
	}
	return nil
}

// Lock keeps others who lock the folder out, and tells whether nobody has it locked.
func (f *Folder) Lock() bool {
	hash := sha256.Sum256([]byte(strings.ToLower(f.dir)))
	name, err := windows.UTF16PtrFromString(`Global\oakbarrel-folder-` + hex.EncodeToString(hash[:16]))
	if err != nil {
		return false
	}
	h, err := windows.CreateEvent(nil, 1, 0, name)
	if err != nil { // it is there already, or another user's
		if h != 0 {
			windows.CloseHandle(h)
		}
		return false
	}
	f.lock = h
	return true
}

// Unlock lets others in again.
func (f *Folder) Unlock() {
	windows.CloseHandle(f.lock)
	f.lock = 0
}

// Close closes the folder.
func (f *Folder) Close() error {
	if f.lock != 0 {
		f.Unlock()
	}
	return windows.CloseHandle(f.handle)
}

// Inside returns the path of a file of the folder.
func (f *Folder) Inside(path string) string { return filepath.Join(f.dir, filepath.Base(path)) }

// OpenRead opens a file of the folder for reading. A link is not followed.
func (f *Folder) OpenRead(path string) (*Handle, error) { return OpenRead(f.Inside(path)) }

// OpenToCut opens a file of the folder likewise, for reading and for cutting.
func (f *Folder) OpenToCut(path string) (*Handle, error) {
	h, err := openPlainFile(f.Inside(path), windows.GENERIC_READ|windows.GENERIC_WRITE, windows.OPEN_EXISTING, 0)
	if err != nil {
		return nil, err
	}
	return &Handle{os.NewFile(uintptr(h), path)}, nil
}

// Lstat looks at what stands in the folder; a link is not followed.
func (f *Folder) Lstat(path string) (fs.FileInfo, error) { return Lstat(f.Inside(path)) }

func (f *Folder) SyncFolder(string) error { return OS.SyncFolder(f.dir) }
