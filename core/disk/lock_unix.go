//go:build unix

package disk

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Lock locks a file until it is closed; the error is [ErrLocked] where somebody else has it.
func Lock(f *os.File) error {
	err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return ErrLocked
	}
	return err
}
