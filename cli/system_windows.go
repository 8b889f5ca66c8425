package cli

import (
	"path/filepath"

	"golang.org/x/sys/windows"

	"oakbarrel/core/plan"
)

// Where an agent is by default: all of it in one folder.
var (
	home         = filepath.Dir(plan.BoundsFile)
	defaultState = filepath.Join(home, "state")
	defaultPlan  = filepath.Join(home, "plan.yaml")
	defaultToken = filepath.Join(home, "token")
)

// What the system says of addresses.
const (
	errNobody = windows.WSAECONNREFUSED
	errLong   = windows.WSAEMSGSIZE
)
