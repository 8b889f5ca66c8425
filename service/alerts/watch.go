// Package alerts asks of the records that come to the store what people want to be told, and
// tells them.
//
// A [Watch] finds out what a batch says to alerts, before it is committed; that is committed
// with it, so that it is said once. A [Judge] takes it up and judges it; of several services
// before one database one does so at a time. A [Book] keeps alerts, receivers and what was told.
package alerts

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/alert"
	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/shape"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

const (
	lookTime   = 2 * time.Second // between two looks for alerts that were changed
	namesTime  = 10 * time.Second
	mostKinds  = 50_000 // that are remembered
	mostWho    = 200    // of one batch and alert
	longestWho = 520    // bytes
)

// Watch finds out what batches say to the alerts that there are. It may be used by several
// goroutines at a time.
type Watch struct {
	DB  *gorm.DB
	Log *slog.Logger

	now     atomic.Pointer[watched]
	loading sync.Mutex
	named   time.Time
}

// watched is the alerts of one moment, and what was found out about them.
type watched struct {
	rows   []model.Alert // as they were read
	all    []*live
	agents map[string]string // the names of their hosts, by agent

	mu    sync.Mutex
	kinds map[kindKey][]said
}

// live is an alert that is asked.
type live struct {
	*alert.Alert
	id      uint64
	number  int
	cask    uint64 // 0 for every one
	byKinds bool   // what stands beside blocks answers
	facets  bool   // but only where facilities are told apart
	value   func(dst []byte, r *record.Record) []byte
	field   condition.Path // of alert.Value
}

// kindKey is what tells kinds apart.
type kindKey struct {
	cask             uint64
	agent, host, app string
	shape            uint64
	priority         record.Priority
	facilities       bool
}

// said is what a kind says to an alert.
type said struct {
	to  *live
	who string
	of  bool
}

// Run keeps up with the alerts that there are, until ctx ends.
func (w *Watch) Run(ctx context.Context) {
	for ctx.Err() == nil {
		if err := w.Load(ctx); err != nil && ctx.Err() == nil {
			w.Log.Debug("the alerts cannot be read now", "why", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookTime):
		}
	}
}

// Load reads the alerts, where they have changed.
func (w *Watch) Load(ctx context.Context) error {
	w.loading.Lock()
	defer w.loading.Unlock()
	var rows []model.Alert
	if err := w.DB.WithContext(ctx).Where("off = 0").Order("id").Find(&rows).Error; err != nil {
		return err
	}
	old := w.now.Load()
	if len(rows) == 0 {
		w.now.Store(nil)
		return nil
	}
	same := old != nil && slices.EqualFunc(old.rows, rows, func(a, b model.Alert) bool { return a.ID == b.ID && a.Number == b.Number })
	if same && time.Since(w.named) < namesTime {
		return nil
	}
	casks, agents, err := namesOf(w.DB.WithContext(ctx))
	if err != nil {
		return err
	}
	now := &watched{rows: rows, agents: agents, kinds: map[kindKey][]said{}}
	for _, row := range rows {
		if l, err := ask(row, casks); err == nil { // an alert for a cask that is not there yet asks nothing
			now.all = append(now.all, l)
		}
	}
	w.named = time.Now()
	w.now.Store(now)
	return nil
}

// namesOf returns the casks by name, and the hosts of agents.
func namesOf(db *gorm.DB) (casks map[string]uint64, agents map[string]string, err error) {
	var rows []model.Cask
	if err = db.Select("id", "name").Find(&rows).Error; err != nil {
		return nil, nil, err
	}
	casks = map[string]uint64{}
	for _, c := range rows {
		casks[c.Name] = c.ID
	}
	var hosts []model.Agent
	if err = db.Select("id", "host").Find(&hosts).Error; err != nil {
		return nil, nil, err
	}
	agents = map[string]string{}
	for _, h := range hosts {
		agents[h.ID] = h.Host
	}
	return casks, agents, nil
}

// ask makes an alert ready to be asked.
func ask(row model.Alert, casks map[string]uint64) (*live, error) {
	a, findings := plan.ParseAlert(row.Name, row.Name+".yaml", row.Text)
	if a == nil {
		return nil, fmt.Errorf("alert %s: %s", row.Name, findings[0])
	}
	return makeReady(a, row.ID, row.Number, casks)
}

func makeReady(a *alert.Alert, id uint64, number int, casks map[string]uint64) (*live, error) {
	l := &live{Alert: a, id: id, number: number}
	if a.Cask != "" {
		known := false
		if l.cask, known = casks[a.Cask]; !known {
			return nil, fmt.Errorf("there is no cask %s", a.Cask)
		}
	}
	asked := asksOf(a)
	told := func(what string) bool { return slices.Contains(search.ToldByKinds, what) }
	l.facets = slices.Contains(asked, "facility")
	l.byKinds = a.Kind != alert.Value && !slices.ContainsFunc(asked, func(what string) bool { return !told(what) }) && (a.By == "" || a.By != "facility" && told(a.By))
	by, path, _ := strings.Cut(a.By, " ")
	if by != "" {
		var err error
		if l.value, err = search.ValueOf(by, path); err != nil {
			return nil, err
		}
	}
	if a.Kind == alert.Value {
		var err error
		if l.field, err = condition.ParsePath(a.Field); err != nil {
			return nil, err
		}
	}
	return l, nil
}

func asksOf(a *alert.Alert) (asked []string) {
	if a.When != nil {
		asked = a.When.Asks()
	}
	if a.Of != nil {
		asked = append(asked, a.Of.Asks()...)
	}
	return asked
}

// Look implements [ingest.Watcher]. What files of the past are imported says nothing.
func (w *Watch) Look(b *ingest.Batch, content *block.Block) (of ingest.Said, err error) {
	now := w.now.Load()
	if now == nil || b.Generation == client.Imported {
		return of, nil
	}
	l := &look{watched: now, batch: b, agent: now.agents[b.AgentID], hits: map[hitKey]*model.Hit{}, whos: map[uint64]int{}, arrived: time.Now().UnixMicro()}
	kinds, facilities := b.Kinds()
	of.OfShapes = l.ofKinds(kinds, facilities)
	if err := l.ofRecords(content, len(kinds) > 0, facilities); err != nil {
		return of, err
	}
	for _, h := range l.hits {
		of.Hits = append(of.Hits, *h)
	}
	return of, nil
}

// look is a look at one batch.
type look struct {
	*watched
	batch   *ingest.Batch
	agent   string // the name of its host
	arrived int64
	hits    map[hitKey]*model.Hit
	whos    map[uint64]int // that are told apart, by alert
}

type hitKey struct {
	alert       uint64
	who         string
	first, last int64
}

// ofKinds finds out what the kinds of a batch say; returned is what each shape says to alerts
// that ask for new ones.
func (l *look) ofKinds(kinds []block.Kind, facilities bool) map[uint64][]model.Hit {
	var ofShapes map[uint64][]model.Hit
	for i := range kinds {
		k := &kinds[i]
		first, last := ingest.Micros(k.First), ingest.Micros(k.Last)
		for _, s := range l.saidBy(k, facilities) {
			if s.to.Kind == alert.NewShape {
				if ofShapes == nil {
					ofShapes = map[uint64][]model.Hit{}
				}
				at := s.to.SlotOf(l.arrived, l.arrived)
				ofShapes[k.Key] = append(ofShapes[k.Key], model.Hit{AlertID: s.to.id, Number: s.to.number, Who: s.who, First: at, Last: at, Count: int64(k.Count), CaskID: l.batch.CaskID, Key: k.Key, Began: first, Arrived: l.arrived})
				continue
			}
			l.add(s.to, s.who, first, last, int64(k.Count), s.of, 0)
		}
	}
	return ofShapes
}

// saidBy returns what a kind says to alerts that kinds answer. It is remembered, as the same
// kinds come again and again.
func (l *look) saidBy(k *block.Kind, facilities bool) []said {
	key := kindKey{l.batch.CaskID, l.agent, string(k.Host), string(k.App), k.Key, k.Priority, facilities}
	l.mu.Lock()
	known, is := l.kinds[key]
	l.mu.Unlock()
	if is {
		return known
	}
	r := record.Record{Host: []byte(key.host), App: []byte(key.app), Priority: k.Priority, Agent: []byte(l.agent), Text: k.Shape}
	for _, a := range l.all {
		if a.byKinds && a.isFor(l.batch.CaskID) && (facilities || !a.facets) && a.meets(&r) {
			known = append(known, said{a, a.whoOf(&r), a.Of != nil && a.Of.Match(&r)})
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.kinds) >= mostKinds {
		clear(l.kinds)
	}
	l.kinds[key] = known
	return known
}

func (a *live) isFor(cask uint64) bool { return a.cask == 0 || a.cask == cask }

// meets tells whether an alert looks at a record at all.
func (a *live) meets(r *record.Record) bool { return a.When == nil || a.When.Match(r) }

// whoOf returns by what an alert looks at a record.
func (a *live) whoOf(r *record.Record) string {
	var who []byte
	switch {
	case a.Kind == alert.NewShape:
		who = shape.Append(nil, r.Text)
	case a.value != nil:
		if who = a.value(nil, r); len(who) == 0 {
			return alert.Missing
		}
	}
	if a.By == "host" || a.By == "agent" { // letter case tells no hosts apart
		who = bytes.ToLower(who)
	}
	return string(who[:min(len(who), longestWho)])
}

// ofRecords finds out what the records say to the alerts that kinds do not answer.
func (l *look) ofRecords(content *block.Block, kinds, facilities bool) error {
	var asked []*live
	for _, a := range l.all {
		answered := a.byKinds && kinds && (facilities || !a.facets)
		if answered || a.Kind == alert.NewShape || !a.isFor(l.batch.CaskID) || a.When != nil && !a.When.Possible(inFilter{l.batch.Words()}) {
			continue
		}
		asked = append(asked, a)
	}
	if len(asked) == 0 {
		return nil
	}
	return content.Each(func(_ uint64, r *record.Record) bool {
		r.Agent = []byte(l.agent)
		at := ingest.Micros(r.Time)
		for _, a := range asked {
			if a.When != nil && a.When.On(r.Priority) == condition.Never {
				continue
			}
			if value, is := a.says(r); is {
				l.add(a, a.whoOf(r), at, at, 1, a.Of != nil && a.Of.Match(r), value)
			}
		}
		return true
	})
}

// says tells whether a record counts, and which value it has.
func (a *live) says(r *record.Record) (value float64, is bool) {
	if !a.meets(r) {
		return 0, false
	}
	if a.Kind != alert.Value {
		return 0, true
	}
	value, is = condition.NumberOf(a.field.Find(r))
	return value, is && (a.Under && value < a.Bound || !a.Under && value > a.Bound)
}

// add adds records of one who, whose times are these.
func (l *look) add(a *live, who string, first, last, count int64, of bool, value float64) {
	if alert.IsLate(last, l.arrived) {
		return
	}
	if a.Kind == alert.Silent { // which is about when they come
		first, last = l.arrived, l.arrived
	}
	key := hitKey{a.id, who, a.SlotOf(first, l.arrived), a.SlotOf(last, l.arrived)}
	h := l.hits[key]
	if h == nil && l.whos[a.id] >= mostWho && who != "" {
		key.who = alert.Others
		h = l.hits[key]
	}
	if h == nil {
		h = &model.Hit{AlertID: a.id, Number: a.number, Who: key.who, First: key.first, Last: key.last, Value: value, Arrived: l.arrived}
		l.hits[key] = h
		l.whos[a.id]++
	}
	h.Count += count
	if of {
		h.Also += count
	}
	h.Value = a.Worse(h.Value, value)
}

// inFilter is the contents of a batch as its filter shows them.
type inFilter struct{ words block.Words }

func (f inFilter) HasWord(hash uint64) bool         { return f.words.Has(hash) }
func (f inFilter) HasText(*condition.Searcher) bool { return true }
func (f inFilter) HasValue(name string, v []byte) bool {
	hash, is := search.ValueHash(name, v)
	return !is || f.words.Has(hash)
}
