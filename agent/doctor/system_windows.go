package doctor

import (
	"context"
	"fmt"
	"os"
	"slices"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
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
func (d *doctor) lookHere(subject string, in plan.Intake, key intake.Key) {
	if key.Network != intake.Events {
		return
	}
	channels, err := intake.ReadableChannels()
	if err != nil {
		d.wrong(subject, fmt.Sprintf("the channels of events cannot be listed: %v", err), "run the agent as an account of the group Event Log Readers")
		return
	}
	for _, wanted := range in.Events.Channels {
		one := plan.Events{Channels: []string{wanted}}
		if n := len(slices.DeleteFunc(slices.Clone(channels), func(c string) bool { return !one.Takes(c) })); n == 0 {
			d.warn(subject, fmt.Sprintf("no channel is named %s", wanted), "it is looked for from time to time; wevtutil el lists those that there are")
		} else {
			d.ok(subject, fmt.Sprintf("%s: %d channels can be read", wanted, n))
		}
	}
}

// lookAtOutletHere looks at where an outlet leads that this system alone has.
func (d *doctor) lookAtOutletHere(o plan.Outlet) {
	if o.Kind != plan.EventsOutlet {
		return
	}
	subject := "outlet " + o.Name
	if outlet.SourceKnown(o.Events) != nil {
		d.wrong(subject, fmt.Sprintf("the source %s is not known in the channel %s", o.Events.Source, o.Events.Channel), "make it known once, as an administrator in PowerShell: "+outlet.MakeKnown(o.Events))
		return
	}
	d.ok(subject, fmt.Sprintf("the source %s is known in the channel %s", o.Events.Source, o.Events.Channel))
}

// lookAtRights has nothing to say: which rights the agent has is seen in what it may open.
func (d *doctor) lookAtRights(context.Context) {}
