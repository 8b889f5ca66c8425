package intake

import (
	"errors"
	"fmt"
	"strings"

	"golang.org/x/sys/unix"
)

// WhyNotOpen tells, for people, why an address could not be opened, and what to do.
func WhyNotOpen(address string, err error) (what, mend string) {
	switch {
	case strings.HasPrefix(address, "unix:"): // the error names the path
		return fmt.Sprintf("%s cannot be opened: %v", address, err), ""
	case errors.Is(err, unix.EADDRINUSE):
		return address + " is taken by another program (address already in use)", "stop it, or choose another port; ss -lntup tells who has it"
	case errors.Is(err, unix.EACCES):
		return address + " may not be opened by this user", "run the agent as root or with the capability to bind low ports, or choose a port above 1023"
	case errors.Is(err, unix.EADDRNOTAVAIL):
		return fmt.Sprintf("%s cannot be opened: %v", address, err), "look whether the address is one of this machine"
	}
	return fmt.Sprintf("%s cannot be opened: %v", address, err), ""
}
