package agent

import (
	"oakbarrel/agent/guard"
	"oakbarrel/agent/intake"
	"oakbarrel/agent/outlet"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// pass gives the records of b to the outlets that the rules name, and counts
// them. It returns when nobody needs b any more. An intake that can wait is
// held back while an outlet of its records is full; it is told by false that
// the agent stops and has not taken them.
func (a *Agent) pass(b *record.Batch, routing *route.Routing, from intake.Endpoint, canWait bool) bool {
	from.Landed() // what becomes of them is counted here
	if !b.Whole() {
		panic("a record of a source stands in a batch without its mark")
	}
	for {
		room := a.passOnce(b, routing, from, canWait)
		if room == nil {
			return true
		}
		select {
		case <-room:
		case <-from.GivenUp():
			return false
		case <-a.ending.Done():
			return false
		}
	}
}

// passOnce passes a batch on, or returns the channel that tells of room in an
// outlet that is full. A batch that it fails with is read, and was not readable,
// but for what is read again.
func (a *Agent) passOnce(b *record.Batch, routing *route.Routing, from intake.Endpoint, canWait bool) (room <-chan struct{}) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	in := from.Owner()
	done := false
	defer func() {
		if !done {
			a.loseBatch(b, in)
		}
	}()
	name := in.Name()
	for i := range b.Records {
		r := &b.Records[i]
		r.Intake, r.Agent = name, a.named
		if r.Host == nil { // it came by a way of this host; over the wire its sender's address stands in
			r.Host = a.named
		}
	}
	guard.Boundary("pass")
	counts := a.table.Route(b, routing)
	if canWait {
		if room = a.fullOutlet(b, routing); room != nil {
			routing.Undo(b) // by the next try there may be another plan
			done = true
			return room
		}
	}
	in.Count(b)
	done = true // from here on an outlet that fails answers for itself
	a.give(b, routing, counts, in, canWait)
	return nil
}

// loseBatch counts the records of a batch that could not be passed on.
func (a *Agent) loseBatch(b *record.Batch, in *intake.Intake) {
	lost := int64(0)
	for i := range b.Records {
		if b.Records[i].End == 0 {
			lost++
		}
	}
	in.Lose(lost)
	a.guard.Lose(guard.Intake(in.Name()), lost)
}

// give counts the records of b, which are marked, and gives them to the outlets.
func (a *Agent) give(b *record.Batch, routing *route.Routing, counts route.Counts, in *intake.Intake, canWait bool) {
	a.in.Add(int64(counts.In))
	a.routed.Add(int64(counts.Routed))
	a.dropped.Add(int64(counts.Dropped))
	a.limited.Add(int64(counts.Limited))
	a.folded.Add(int64(counts.Folded))
	a.table.Count(routing)
	for i, o := range a.outlets {
		a.giveTo(o, b, routing, i, canWait)
	}
	if w := a.tracing.Load(); w != nil {
		w.watch(a, b, routing, in)
	}
}

// fullOutlet returns the channel that tells of room in an outlet that is full
// and has to take a record of b, nil where none is.
func (a *Agent) fullOutlet(b *record.Batch, routing *route.Routing) <-chan struct{} {
	for number, o := range a.outlets {
		room := o.WaitForRoom()
		if room == nil {
			continue
		}
		for i := range b.Records {
			if routing.Has(i, number) {
				return room
			}
		}
	}
	return nil
}

// giveTo gives the records of a batch to an outlet. One that fails is out of use
// from then on, and what it has not got is shed, where it cannot be read again.
func (a *Agent) giveTo(o outlet.Outlet, b *record.Batch, routing *route.Routing, number int, canWait bool) {
	if o.IsDown() {
		a.shedAll(o, b, routing, number, 0)
		return
	}
	defer func() {
		if what := recover(); what != nil {
			a.outletFailed(o, b, routing, number, what)
		}
	}()
	if len(a.pauses) > 0 {
		a.dropPaused(o, b, routing, number)
	}
	o.Take(b, routing, number, canWait)
}

// outletFailed puts an outlet out of use that has failed with a batch. It is apart from
// giveTo, as the settings that it copies would stand on the stack of each connection.
func (a *Agent) outletFailed(o outlet.Outlet, b *record.Batch, routing *route.Routing, number int, what any) {
	o.Fail()
	a.guard.Failed(guard.Outlet(o.Settings().Name), what)
	a.shedAll(o, b, routing, number, o.Got())
}

// shedAll sheds the records of a batch that an outlet was to get, but for those
// that it has got and those of sources that are read again.
func (a *Agent) shedAll(o outlet.Outlet, b *record.Batch, routing *route.Routing, number int, got int64) {
	lost := -got
	for i := range b.Records {
		if routing.Has(i, number) && b.Records[i].End == 0 {
			lost++
		}
	}
	if lost > 0 {
		o.Shed(lost)
		a.guard.Lose(guard.Outlet(o.Settings().Name), lost)
	}
}
