package disk

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// lockedAt is where a lock is: far behind all content, as what is locked cannot be read.
const lockedAt = 1 << 30

// Lock locks a file until it is closed; the error is [ErrLocked] where somebody else has it.
func Lock(f *os.File) error {
	err := windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &windows.Overlapped{OffsetHigh: lockedAt})
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return ErrLocked
	}
	return err
}
