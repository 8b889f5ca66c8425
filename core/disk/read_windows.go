package disk

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

// Handle is a file that is open for reading.
type Handle struct{ *os.File }

// Stat looks at the file.
func (f *Handle) Stat() (fs.FileInfo, error) {
	st, err := f.File.Stat()
	if err != nil {
		return nil, err
	}
	facts, _, err := factsOf(windows.Handle(f.Fd()))
	return info{st, facts}, err
}

// Open opens a file for reading, as it is: of what others may have put there use
// [OpenRead] or [OpenRegular].
func Open(path string) (*Handle, error) {
	name, err := native(path)
	if err == nil {
		var h windows.Handle
		h, err = windows.CreateFile(name, windows.GENERIC_READ, shared, nil, windows.OPEN_EXISTING, windows.FILE_ATTRIBUTE_NORMAL|windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
		if err == nil {
			return &Handle{os.NewFile(uintptr(h), path)}, nil
		}
	}
	return nil, &fs.PathError{Op: "open", Path: path, Err: err}
}

// errNoHoles: nothing tells of holes here.
var errNoHoles = errors.New("this system does not tell of holes")

// SkipHole tells of no holes here.
func SkipHole(*Handle, int64) (at int64, found bool, err error) { return 0, false, errNoHoles }

// IsFull tells whether an error says that the disk is full.
func IsFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

// OpenRegular opens a regular file for reading. No part of its path may be a link.
func OpenRegular(path string) (*Handle, fs.FileInfo, error) {
	f, err := OpenRead(path)
	if errors.Is(err, ErrNotRegular) {
		err = ErrNotRegular
	}
	if err != nil {
		return nil, nil, err
	}
	st, err := f.Stat()
	if err == nil {
		err = withoutLinks("", path)
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, st, nil
}

func openPlainFolder(path string) (*os.File, error) {
	f, err := os.Open(path)
	if err == nil {
		if err = withoutLinks("", path); err != nil {
			f.Close()
		}
	}
	return f, err
}

// isLink tells whether something leads elsewhere: a symbolic link, or a junction.
func isLink(st fs.FileInfo) bool {
	return st.Mode()&(fs.ModeSymlink|fs.ModeIrregular) != 0
}

// isTrusted tells whether administrators made a link, or who owns what it leads to.
func isTrusted(link string, _ fs.FileInfo, real string, _ fs.FileInfo) bool {
	of, err := ownerAt(link)
	if err != nil {
		return false
	}
	target, err := ownerAt(real)
	return isAdministrator(of) || err == nil && of.Equals(target)
}
