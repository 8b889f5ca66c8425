//go:build unix

package plan

// BoundsFile is where a host's owner says what a plan from the service may do.
const BoundsFile = "/etc/oakbarrel/bounds.yaml"

// lacking are the keys of what this system does not have, and what to write in their place.
var lacking = map[string]string{
	"events": "a log of events is Windows' own; here journal: {} or files are read",
}

// shell runs a line.
var shell = []string{"/bin/sh", "-c"}
