package intake

import (
	"math"

	"golang.org/x/sys/unix"
)

// Why an address cannot be opened.
const (
	errTaken      = unix.EADDRINUSE
	errNotAllowed = unix.EACCES
	errNotOurs    = unix.EADDRNOTAVAIL

	whoListens     = "ss -lntup"
	mendNotAllowed = "run the agent as root or with the capability to bind low ports, or choose a port above 1023"
)

// mostDescriptors returns how many files and sockets the process may have open.
func mostDescriptors() int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return 1024 // the usual one
	}
	return int(min(limit.Cur, math.MaxInt32))
}
