//go:build unix

package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

func open(path string, flags int, mode fs.FileMode) (File, error) {
	// Without O_NONBLOCK, a named pipe in the place of the file would block the opening.
	f, err := os.OpenFile(path, flags|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, mode)
	if errors.Is(err, unix.ELOOP) {
		return nil, &fs.PathError{Op: "open", Path: path, Err: errors.New("this is a symbolic link, and links are not followed")}
	}
	if errors.Is(err, unix.ENXIO) { // a named pipe that nobody reads, or a socket
		return nil, &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// OpenRead opens a regular file for reading. What stands in its place, such as a
// named pipe, does not block.
func OpenRead(path string) (*Handle, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (osDisk) SetTime(path string, t time.Time) error {
	when := unix.NsecToTimespec(t.UnixNano())
	if err := unix.UtimesNanoAt(unix.AT_FDCWD, path, []unix.Timespec{when, when}, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return &fs.PathError{Op: "set the time of", Path: path, Err: err}
	}
	return nil
}

func (osDisk) SyncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil {
		return fmt.Errorf("sync folder %s: %w", path, err)
	}
	return nil
}

func rename(from, to string) error { return os.Rename(from, to) }
