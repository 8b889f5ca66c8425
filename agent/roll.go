package agent

import (
	"errors"
	"slices"

	"oakbarrel/agent/outlet"
	"oakbarrel/client"
	"oakbarrel/core/plan"
)

// Roll rolls the sets of a file outlet, or of all where none is named, or the
// files of a tend.
func (a *Agent) Roll(name string) ([]client.RolledSet, error) {
	files, isOutlet, isTend := a.rollable(name)
	if !isOutlet && isTend {
		return a.tended.Roll(a.ending, name)
	}
	if !isOutlet {
		return nil, errors.New("the plan has no outlet and no tend " + name)
	}
	if len(files) == 0 {
		return nil, errors.New("there is nothing to roll; only a file outlet is rolled")
	}
	all := []client.RolledSet{}
	for _, f := range files {
		all = append(all, f.Roll(a.ending)...)
	}
	if a.ending.Err() != nil {
		return nil, errStopping
	}
	return all, nil
}

// rollable returns the file outlets of a name, or all where it is "", and tells
// what it names.
func (a *Agent) rollable(name string) (files []*outlet.File, isOutlet, isTend bool) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	isOutlet = name == ""
	for i, o := range a.outlets {
		if name != "" && a.plan.Outlets[i].Name != name {
			continue
		}
		isOutlet = true
		if f := o.Rolls(); f != nil {
			files = append(files, f)
		}
	}
	isTend = slices.ContainsFunc(a.plan.Tends, func(t plan.Tend) bool { return t.Name == name })
	return files, isOutlet, isTend
}
