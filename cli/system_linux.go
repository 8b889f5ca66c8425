package cli

import "golang.org/x/sys/unix"

// What the system says of addresses.
const (
	errNobody = unix.ECONNREFUSED
	errLong   = unix.EMSGSIZE
)
