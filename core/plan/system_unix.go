//go:build unix

package plan

// BoundsFile is where a host's owner says what a plan from the service may do.
const BoundsFile = "/etc/oakbarrel/bounds.yaml"
