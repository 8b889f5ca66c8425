package agent

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/tail"
)

// outletsFile is the name of the outlets that were in force last, in a state folder.
const outletsFile = "outlets.json"

// takenOf tells how far each outlet in force has taken a source, and begin for one
// that does not know it.
func (a *Agent) takenOf(source string, begin int64) (offsets []int64) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	for _, o := range a.outlets {
		offset, known := o.Taken(source)
		if !known {
			offset = begin
		}
		offsets = append(offsets, offset)
	}
	return offsets
}

// forgetSources has the outlets let go of sources.
func (a *Agent) forgetSources(sources []string) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	for _, o := range a.outlets {
		o.Forget(sources)
	}
}

// beginOutlets tells outlets that are new how far the sources are read: what
// came before is not for them. It is called between two batches.
func (a *Agent) beginOutlets(fresh []outlet.Outlet, endpoints map[intake.Key]intake.Endpoint) {
	var marks []record.Mark
	for _, e := range endpoints {
		if f := e.Rereads(); f != nil {
			marks = append(marks, f.Positions()...)
		}
	}
	if len(marks) == 0 {
		return
	}
	for _, o := range fresh {
		if err := o.SetTaken(marks); err != nil {
			a.log.Error("how far files are followed cannot be written down", "outlet", o.Key(), "why", err)
		}
	}
}

// strangers returns the outlets of next that were not in force before: at the
// start, those that were not when the agent ended.
func (a *Agent) strangers(next []outlet.Outlet) (fresh []outlet.Outlet) {
	var known []string
	if a.plan == nil {
		if errors.Is(a.state.Load(outletsFile, &known), state.ErrDamaged) {
			return nil // taken for new, they would pass over what they have still to get
		}
	}
	for _, o := range a.outlets {
		known = append(known, o.Key())
	}
	return slices.DeleteFunc(slices.Clone(next), func(o outlet.Outlet) bool { return slices.Contains(known, o.Key()) })
}

// saveOutlets writes down which outlets are in force.
func (a *Agent) saveOutlets() {
	keys := []string{}
	for _, o := range a.inForce() {
		keys = append(keys, o.Key())
	}
	if err := a.state.Save(outletsFile, keys); err != nil {
		a.log.Warn("which outlets are in force cannot be written down", "why", err)
	}
}

// rereading returns what reads from where the outlets are, in the order of the intakes.
func (a *Agent) rereading() (all []intake.Rereader) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	for _, in := range a.intakes {
		for _, e := range a.endpointsOf(in) {
			if f := e.Rereads(); f != nil {
				all = append(all, f)
			}
		}
	}
	return all
}

// following returns those of it that follow files.
func (a *Agent) following() (all []*intake.Follow) {
	for _, e := range a.rereading() {
		if f, ok := e.(*intake.Follow); ok {
			all = append(all, f)
		}
	}
	return all
}

// endpointsOf returns the endpoints of an intake. It is called with the lock.
func (a *Agent) endpointsOf(in *intake.Intake) (all []intake.Endpoint) {
	for _, key := range intake.KeysOf(in.Settings()) {
		if e := a.endpoints[key]; e != nil && e.Owner() == in {
			all = append(all, e)
		}
	}
	return all
}

// Followed tells how far the files of all intakes are followed.
func (a *Agent) Followed() []client.FollowedFile {
	files := []client.FollowedFile{}
	for _, f := range a.rereading() {
		files = append(files, f.Files()...)
	}
	return files
}

// lookTime is after how long the files that are there have surely been looked at.
const lookTime = 5 * time.Second

// allRead tells whether the files that are followed were all read to their ends since
// the agent began.
func (a *Agent) allRead() bool {
	if len(a.following()) == 0 {
		return true
	}
	return time.Since(a.since) > lookTime && !slices.ContainsFunc(a.Followed(), func(f client.FollowedFile) bool { return f.Behind > 0 })
}

// mostFollowed bounds the lists of files and of containers in a status.
const mostFollowed = 100

// worst returns the files that need attention first.
func worst(files []client.FollowedFile) []client.FollowedFile {
	slices.SortStableFunc(files, func(a, b client.FollowedFile) int {
		return cmp.Or(cmp.Compare(b.Behind, a.Behind), cmp.Compare(b.Why, a.Why), cmp.Compare(a.Path, b.Path))
	})
	return files[:min(len(files), mostFollowed)]
}

// Containers tells how the containers of all intakes are.
func (a *Agent) Containers() []client.ContainerStatus {
	list := []client.ContainerStatus{}
	for _, f := range a.following() {
		list = append(list, f.Containers()...)
	}
	return list
}

// isUnread tells whether an intake has still to read a file.
func (a *Agent) isUnread(path string) bool {
	return slices.ContainsFunc(a.following(), func(f *intake.Follow) bool { return f.IsUnread(path) })
}

// SetBack has a file read again from an offset, by each intake that follows it.
func (a *Agent) SetBack(path string, offset int64) error {
	found := fmt.Errorf("%s is not followed", path)
	for _, f := range a.following() {
		switch err := f.SetBack(path, offset); err {
		case nil:
			found = nil
		case tail.ErrNotFollowed:
		default:
			return err
		}
	}
	return found
}
