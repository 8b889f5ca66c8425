package intake

import (
	"errors"
	"fmt"
	"strings"
)

// IsTaken tells whether an error says that an address is taken.
func IsTaken(err error) bool { return errors.Is(err, errTaken) }

// WhyNotOpen tells, for people, why an address could not be opened, and what to do.
func WhyNotOpen(address string, err error) (what, mend string) {
	switch {
	case strings.HasPrefix(address, "unix:"): // the error names the path
		return fmt.Sprintf("%s cannot be opened: %v", address, err), ""
	case IsTaken(err):
		return address + " is taken by another program (address already in use)", "stop it, or choose another port; " + whoListens + " tells who has it"
	case errors.Is(err, errNotAllowed):
		return address + " may not be opened by this user", mendNotAllowed
	case errors.Is(err, errNotOurs):
		return fmt.Sprintf("%s cannot be opened: %v", address, err), "look whether the address is one of this machine"
	}
	return fmt.Sprintf("%s cannot be opened: %v", address, err), ""
}
