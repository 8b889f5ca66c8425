package intake

import (
	"time"

	"golang.org/x/sys/unix"
)

// uptime is how long ago the machine was started. Which start an entry is of cannot be
// asked for: in a container that is another one than that of the machine below it.
func uptime() time.Duration {
	var t unix.Timespec
	unix.ClockGettime(unix.CLOCK_BOOTTIME, &t)
	return time.Duration(t.Nano())
}
