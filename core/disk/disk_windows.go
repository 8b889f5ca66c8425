package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/windows"
)

// Everything is opened so that others may read, write, rename and remove it meanwhile, as
// they are used to of files that nobody follows.
const shared = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE

// longest is from how many characters on a path needs a prefix to be taken as it is.
const longest = 240

// native returns a path as the system's calls take it.
func native(path string) (*uint16, error) {
	if len(path) >= longest && !strings.HasPrefix(path, `\\?\`) {
		if rest, isShare := strings.CutPrefix(path, `\\`); isShare {
			path = `\\?\UNC\` + rest
		} else {
			path = `\\?\` + path
		}
	}
	return windows.UTF16PtrFromString(strings.ReplaceAll(path, "/", `\`))
}

// openHandle opens what stands at a path; a link is not followed.
func openHandle(path string, access, disposition, flags uint32, security *windows.SecurityAttributes) (windows.Handle, error) {
	name, err := native(path)
	if err == nil {
		var h windows.Handle
		h, err = windows.CreateFile(name, access, shared, security, disposition, flags|windows.FILE_FLAG_OPEN_REPARSE_POINT, 0)
		if err == nil {
			return h, nil
		}
	}
	return 0, &fs.PathError{Op: "open", Path: path, Err: err}
}

// openPlainFile opens a regular file, or makes it.
func openPlainFile(path string, access, disposition uint32, mode fs.FileMode) (windows.Handle, error) {
	var security *windows.SecurityAttributes
	if mode != 0 && mode&0o077 == 0 {
		security = ownerOnly()
	}
	h, err := openHandle(path, access, disposition, windows.FILE_ATTRIBUTE_NORMAL, security)
	if err != nil {
		return 0, err
	}
	facts, attributes, err := factsOf(h)
	switch {
	case err == nil && attributes&windows.FILE_ATTRIBUTE_REPARSE_POINT != 0:
		err = &fs.PathError{Op: "open", Path: path, Err: errors.New("this is a symbolic link, and links are not followed")}
	case err == nil && !facts.Regular:
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		windows.CloseHandle(h)
		return 0, err
	}
	return h, nil
}

func open(path string, flags int, mode fs.FileMode) (File, error) {
	disposition := uint32(windows.OPEN_ALWAYS)
	if flags&os.O_TRUNC != 0 {
		disposition = windows.CREATE_ALWAYS
	}
	h, err := openPlainFile(path, windows.GENERIC_READ|windows.GENERIC_WRITE|windows.FILE_WRITE_ATTRIBUTES, disposition, mode)
	if err != nil {
		return nil, err
	}
	return &writeHandle{&Handle{os.NewFile(uintptr(h), path)}, flags&os.O_APPEND != 0}, nil
}

// writeHandle is a file that can be changed.
type writeHandle struct {
	*Handle
	append bool
}

// atEnd is where a write goes that appends, whatever was written meanwhile.
var atEnd = windows.Overlapped{Offset: 0xffffffff, OffsetHigh: 0xffffffff}

func (f *writeHandle) Write(b []byte) (int, error) {
	if !f.append {
		return f.File.Write(b)
	}
	done, at := uint32(0), atEnd
	err := windows.WriteFile(windows.Handle(f.Fd()), b, &done, &at)
	if err != nil {
		err = &fs.PathError{Op: "write", Path: f.Name(), Err: err}
	}
	return int(done), err
}

// Chown does nothing: files belong to who runs the agent, and rights come from their folder.
func (f *writeHandle) Chown(int, int) error { return nil }

// OpenRead opens a regular file for reading. What stands in its place, such as a
// link, is not followed.
func OpenRead(path string) (*Handle, error) {
	h, err := openPlainFile(path, windows.GENERIC_READ, windows.OPEN_EXISTING, 0)
	if err != nil {
		return nil, err
	}
	return &Handle{os.NewFile(uintptr(h), path)}, nil
}

func (osDisk) SetTime(path string, t time.Time) error {
	h, err := openHandle(path, windows.FILE_WRITE_ATTRIBUTES, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, nil)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	when := windows.NsecToFiletime(t.UnixNano())
	if err := windows.SetFileTime(h, nil, &when, &when); err != nil {
		return &fs.PathError{Op: "set the time of", Path: path, Err: err}
	}
	return nil
}

// SyncFolder has nothing to do but to look whether the folder is there: renames are written
// through, and the file system's own journal keeps names.
func (osDisk) SyncFolder(path string) error {
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("sync folder %s: %w", path, err)
	}
	return nil
}

// What looks at new files, such as a scanner for viruses, holds them for a moment without
// letting others rename them.
const (
	patience     = 2 * time.Second
	impatience   = 10 * time.Millisecond
	writeThrough = windows.MOVEFILE_WRITE_THROUGH
)

func rename(from, to string) error {
	return linked("rename", from, to, move(from, to, windows.MOVEFILE_REPLACE_EXISTING|writeThrough))
}

func renameNew(from, to string) error { return move(from, to, writeThrough) }

func move(from, to string, flags uint32) error {
	a, err := native(from)
	if err != nil {
		return err
	}
	b, err := native(to)
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(patience); ; time.Sleep(impatience) {
		err = windows.MoveFileEx(a, b, flags)
		if err == nil || !isHeld(err) || time.Now().After(deadline) {
			return err
		}
	}
}

// isHeld tells whether somebody has a file open who may be done with it soon.
func isHeld(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_ACCESS_DENIED) || errors.Is(err, windows.ERROR_LOCK_VIOLATION)
}

func linked(op, from, to string, err error) error {
	if err != nil {
		return &os.LinkError{Op: op, Old: from, New: to, Err: err}
	}
	return nil
}
