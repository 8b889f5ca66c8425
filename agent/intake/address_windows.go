package intake

import "golang.org/x/sys/windows"

// Why an address cannot be opened.
const (
	errTaken      = windows.WSAEADDRINUSE
	errNotAllowed = windows.WSAEACCES
	errNotOurs    = windows.WSAEADDRNOTAVAIL

	whoListens     = "netstat -abno"
	mendNotAllowed = "another program may have it for itself alone, or the system keeps it: netsh int ipv4 show excludedportrange tcp; choose another port"
)

// mostDescriptors returns how many files and sockets the process may have open: the system
// sets no bound of its own that is near.
func mostDescriptors() int { return 1 << 16 }
