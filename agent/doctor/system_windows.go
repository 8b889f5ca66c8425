package doctor

import (
	"context"
	"os"

	"oakbarrel/agent/intake"
	"oakbarrel/core/plan"
)

// mayWrite tells whether files can be made in a folder, by making one: who may do what is said
// in several places here, and only the system puts it together.
func mayWrite(dir string) error {
	f, err := os.CreateTemp(dir, ".oakbarrel-*")
	if err != nil {
		return err
	}
	f.Close()
	return os.Remove(f.Name())
}

// lookHere looks at what an intake reads that this system alone has.
func (d *doctor) lookHere(subject string, in plan.Intake, key intake.Key) {}

// lookAtOutletHere looks at where an outlet leads that this system alone has.
func (d *doctor) lookAtOutletHere(o plan.Outlet) {}

// lookAtRights has nothing to say: which rights the agent has is seen in what it may open.
func (d *doctor) lookAtRights(context.Context) {}
