package tend

import (
	"errors"

	"oakbarrel/core/plan"
)

// signalTo does nothing: programs are not told by signals here, and no plan that asks for it
// comes so far.
func signalTo(plan.After) (what string, err error) {
	return "", errors.New("this system has no signals")
}
