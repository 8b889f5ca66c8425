package alerts

import (
	"context"
	"slices"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/alert"
	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
	"oakbarrel/service/search"
)

const (
	tryTime   = 15 * time.Second // for which the past is looked at
	day       = 24 * time.Hour
	firstLook = time.Hour // of the past; then twice as much each time, up to a day
	mostTold  = 100       // times that are told apart
)

// Try tells when an alert would have told somebody in the last days, as far back as there is
// time for: of the records of a query, which has casks alone.
func (b *Book) Try(ctx context.Context, store *search.Store, q search.Query, a *alert.Alert, days int) (tried client.TriedAlert, err error) {
	casks, err := casksByName(b.DB.WithContext(ctx))
	if err != nil {
		return tried, err
	}
	l, err := makeReady(a, 0, 0, casks)
	if err != nil {
		return tried, refuse("oakbarrel cask list tells them", "%v", err)
	}
	q.Condition = a.When
	to := time.Now()
	from, end := to, to.Add(-time.Duration(days)*day)
	past := &alert.Past{}
	bounded, cancel := context.WithTimeout(ctx, tryTime)
	defer cancel()
	for span, room := firstLook, true; room && from.After(end); span = min(2*span, day) {
		since := from.Add(-span)
		if since.Before(end) {
			since = end
		}
		q.Since, q.Until = since.UnixMicro(), from.UnixMicro()
		if room, err = l.gather(bounded, store, q, past); err != nil && bounded.Err() != nil && ctx.Err() == nil {
			break // it takes too long; what was looked at so far is told
		}
		if err != nil {
			return tried, err
		}
		from = since
	}
	if from == to {
		return tried, refuse("ask for something that stands beside blocks, or for a word: app is pumpd, severity at least error", "an hour of what this asks for cannot be looked through within %s", alert.Brief(tryTime))
	}
	told := a.Replay(past, from.UnixMicro(), to.UnixMicro())
	told = slices.DeleteFunc(told, func(t alert.Telling) bool { return t.At < from.UnixMicro() }) // which are not known as a whole
	slices.Reverse(told)
	tried = client.TriedAlert{Findings: []client.Finding{}, Asks: a.String(), From: from.UTC(), To: to.UTC(), Times: len(told), Told: []client.WouldBeTold{}}
	for _, t := range told[:min(len(told), mostTold)] {
		tried.Told = append(tried.Told, client.WouldBeTold{At: time.UnixMicro(t.At).UTC(), Line: harmless(t.Line), Count: t.Count})
	}
	return tried, nil
}

// pastHit is what is counted together.
type pastHit struct {
	who string
	at  int64
}

// gather gathers what has come in the span of a query, and tells whether there is room for more.
func (a *live) gather(ctx context.Context, store *search.Store, q search.Query, past *alert.Past) (room bool, err error) {
	if a.Kind == alert.NewShape {
		return a.gatherShapes(ctx, store, q, past)
	}
	room = true
	asked := asksOf(a.Alert)
	g := search.Gatherer[map[pastHit]alert.Hit]{
		ByKinds:    a.byKinds && (a.Of == nil || !slices.Contains(asked, "shape")),
		Facilities: a.facets,
		OfKind: func(agent []byte, k *ingest.Kind) {
			r := record.Record{Host: k.Host, App: k.App, Priority: k.Priority, Agent: agent}
			h := alert.Hit{At: a.SlotOf(k.First, q.Until), To: a.SlotOf(k.Last, q.Until), Count: k.Count, Arrived: k.First}
			if a.Of != nil && a.Of.Match(&r) {
				h.Of = k.Count
			}
			room = past.Add(a.Alert, a.whoOf(&r), h) && room
		},
		Empty: func() map[pastHit]alert.Hit { return map[pastHit]alert.Hit{} },
		OfRecord: func(of map[pastHit]alert.Hit, at int64, r *record.Record) {
			value, is := a.says(r)
			if !is {
				return
			}
			key := pastHit{a.whoOf(r), a.SlotOf(at, q.Until)}
			h, known := of[key]
			if !known {
				h = alert.Hit{At: key.at, To: key.at, Value: value, Arrived: at}
			}
			h.Count++
			h.Value = a.Worse(h.Value, value)
			if a.Of != nil && a.Of.Match(r) {
				h.Of++
			}
			of[key] = h
		},
		Merge: func(of map[pastHit]alert.Hit) {
			for key, h := range of {
				room = past.Add(a.Alert, key.who, h) && room
			}
		},
	}
	return room, search.Gather(ctx, store, q, g)
}

// gatherShapes gathers the shapes that were new.
func (a *live) gatherShapes(ctx context.Context, store *search.Store, q search.Query, past *alert.Past) (room bool, err error) {
	began, err := store.Began(ctx, q)
	if err != nil {
		return false, err
	}
	all, err := store.Shapes(ctx, q, 1)
	if err != nil {
		return false, err
	}
	room = true
	for _, c := range all.All {
		if c.Count > 0 && c.Known >= q.Since && c.Known < q.Until && c.Known > began+learnTime.Microseconds() {
			at := a.SlotOf(c.Known, q.Until)
			room = past.Add(a.Alert, c.Text, alert.Hit{At: at, To: at, Count: c.Count, Arrived: c.Known}) && room
		}
	}
	return room, nil
}
