//go:build unix

package cli

const (
	defaultState = "/var/lib/oakbarrel"
	defaultPlan  = "/etc/oakbarrel/plan.yaml"
	defaultToken = "/etc/oakbarrel/token"
)
