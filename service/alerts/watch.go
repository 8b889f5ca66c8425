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
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"log/slog"
	"runtime/debug"
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
	mostSaid   = 20_000 // hits of one batch, of which others are told together
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
	ready   readied
}

// readied are alerts that were made ready to be asked, by id.
type readied map[uint64]*live

// alertsOn returns the alerts that are not off, without their texts.
func alertsOn(db *gorm.DB) (rows []model.Alert, err error) {
	err = db.Select("id", "name", "number").Where("off = 0").Order("id").Find(&rows).Error
	return rows, err
}

// all makes alerts ready that are not yet as they are now, and returns them. One for a cask that
// is not there, or that cannot be read, asks nothing.
func (r *readied) all(db *gorm.DB, rows []model.Alert, casks map[string]uint64) (readied, error) {
	ready := readied{}
	for _, row := range rows {
		l := (*r)[row.ID]
		if l == nil || l.number != row.Number || l.cask != casks[l.Cask] {
			var whole []model.Alert
			if err := db.Where("id = ?", row.ID).Find(&whole).Error; err != nil {
				return nil, err
			}
			if len(whole) == 0 { // it was removed meanwhile
				continue
			}
			var err error
			if l, err = ask(whole[0], casks); err != nil {
				continue
			}
		}
		ready[row.ID] = l
	}
	*r = ready
	return ready, nil
}

// watched is the alerts of one moment, and what was found out about them.
type watched struct {
	rows   []model.Alert // as they were read
	all    []*live
	agents map[string]string // the names of their hosts, by agent

	mu    sync.RWMutex
	kinds map[uint64][]said // by a hash of what tells kinds apart
	pairs map[pair]int      // of an alert and one who, numbered
}

// pair is an alert and one of those that it looks at by itself.
type pair struct {
	alert uint64
	who   string
}

// live is an alert that is asked.
type live struct {
	*alert.Alert
	id      uint64
	number  int
	cask    uint64 // 0 for every one
	byKinds bool   // what stands beside blocks answers
	facets  bool   // but only where facilities are told apart
	value   *search.By
	field   condition.Path // of alert.Value
}

// said is what a kind says to an alert.
type said struct {
	to  *live
	who string
	at  int // the number of both
	of  bool
}

// seed makes the hashes of kinds such as no sender can foresee.
var seed = maphash.MakeSeed()

// Any tells whether there are alerts that are not off, as of the last look; of no Watch that there
// may be.
func (w *Watch) Any() bool { return w == nil || w.now.Load() != nil }

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
	rows, err := alertsOn(w.DB.WithContext(ctx))
	if err != nil {
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
	casks, err := casksByName(w.DB.WithContext(ctx))
	if err != nil {
		return err
	}
	agents, err := hostsOfAgents(w.DB.WithContext(ctx))
	if err != nil {
		return err
	}
	now := &watched{rows: rows, agents: agents, kinds: map[uint64][]said{}, pairs: map[pair]int{}}
	ready, err := w.ready.all(w.DB.WithContext(ctx), rows, casks)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if l := ready[row.ID]; l != nil {
			now.all = append(now.all, l)
		}
	}
	w.named = time.Now()
	w.now.Store(now)
	return nil
}

// casksByName returns the numbers of the casks.
func casksByName(db *gorm.DB) (map[string]uint64, error) {
	var rows []model.Cask
	err := db.Select("id", "name").Find(&rows).Error
	casks := map[string]uint64{}
	for _, c := range rows {
		casks[c.Name] = c.ID
	}
	return casks, err
}

// hostsOfAgents returns the names of the hosts of agents.
func hostsOfAgents(db *gorm.DB) (map[string]string, error) {
	var rows []model.Agent
	err := db.Select("id", "host").Find(&rows).Error
	agents := map[string]string{}
	for _, h := range rows {
		agents[h.ID] = h.Host
	}
	return agents, err
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
	defer func() {
		if what := recover(); what != nil { // the batch is taken all the same
			w.Log.Error("what a batch says to alerts cannot be found out", "agent", b.AgentID, "what", what, "stack", string(debug.Stack()))
			of, err = ingest.Said{}, nil
		}
	}()
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
	last    []*model.Hit   // of each pair of an alert and one who
	hasher  maphash.Hash
	head    []byte
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
				ofShapes[k.Key] = append(ofShapes[k.Key], model.Hit{AlertID: s.to.id, Number: s.to.number, Who: s.who, Count: int64(k.Count), Shape: &model.NewShape{CaskID: l.batch.CaskID, Key: k.Key, Began: first}})
				continue
			}
			for len(l.last) <= s.at {
				l.last = append(l.last, nil)
			}
			l.last[s.at] = l.add(s.to, s.who, first, last, int64(k.Count), s.of, 0, l.last[s.at])
		}
	}
	return ofShapes
}

// saidBy returns what a kind says to alerts that kinds answer. It is remembered, as the same
// kinds come again and again.
func (l *look) saidBy(k *block.Kind, facilities bool) []said {
	key := l.hash(k, facilities)
	l.mu.RLock()
	known, is := l.kinds[key]
	l.mu.RUnlock()
	if is {
		return known
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	r := record.Record{Host: k.Host, App: k.App, Priority: k.Priority, Agent: []byte(l.agent), Text: k.Shape}
	for _, a := range l.all {
		if a.byKinds && a.isFor(l.batch.CaskID) && (facilities || !a.facets) && a.meets(&r) {
			who := a.whoOf(&r)
			of := pair{a.id, who}
			at, numbered := l.pairs[of]
			if !numbered {
				at = len(l.pairs)
				l.pairs[of] = at
			}
			known = append(known, said{a, who, at, a.Of != nil && a.Of.Match(&r)})
		}
	}
	if len(l.kinds) >= mostKinds {
		clear(l.kinds)
		clear(l.pairs)
	}
	l.kinds[key] = known
	return known
}

func (l *look) hash(k *block.Kind, facilities bool) uint64 {
	h := &l.hasher
	h.Reset()
	h.SetSeed(seed)
	l.head = binary.LittleEndian.AppendUint64(l.head[:0], l.batch.CaskID)
	l.head = binary.LittleEndian.AppendUint64(l.head, k.Key)
	l.head = append(l.head, byte(k.Priority), 0)
	if facilities {
		l.head[17] = 1
	}
	l.head = binary.LittleEndian.AppendUint32(l.head, uint32(len(k.Host)))
	l.head = binary.LittleEndian.AppendUint32(l.head, uint32(len(k.App)))
	h.Write(l.head)
	h.Write(k.Host)
	h.Write(k.App)
	h.WriteString(l.agent)
	return h.Sum64()
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
		if who = a.value.Append(nil, r); len(who) == 0 {
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
				l.add(a, a.whoOf(r), at, at, 1, a.Of != nil && a.Of.Match(r), value, nil)
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

// add adds records of one who, whose times are these. near is where such were added before, or
// nil; returned is where they are now.
func (l *look) add(a *live, who string, first, last, count int64, of bool, value float64, near *model.Hit) *model.Hit {
	if alert.IsLate(last, l.arrived) {
		return near
	}
	if a.Kind == alert.Silent { // which is about when they come
		first, last = l.arrived, l.arrived
	}
	first, last = a.SlotOf(first, l.arrived), a.SlotOf(last, l.arrived)
	h := near
	if h == nil || h.AlertID != a.id || h.First != first || h.Last != last || h.Who != who { // numbers begin anew at times
		h = l.hitFor(a, who, first, last, value)
	}
	h.Count += count
	if of {
		h.Also += count
	}
	h.Value = a.Worse(h.Value, value)
	return h
}

// hitFor returns what the batch says of one who and some slots. Of those that are too many it is
// said together, and where all are too many roughly when.
func (l *look) hitFor(a *live, who string, first, last int64, value float64) *model.Hit {
	key := hitKey{a.id, who, first, last}
	if h := l.hits[key]; h != nil {
		return h
	}
	if l.whos[a.id] >= mostWho && who != "" {
		key.who = alert.Others
	}
	if len(l.hits) >= mostSaid {
		key.first, key.last = 0, 0
	}
	h := l.hits[key]
	if h == nil {
		h = &model.Hit{AlertID: a.id, Number: a.number, Who: key.who, First: first, Last: last, Value: value}
		l.hits[key] = h
		l.whos[a.id]++
	}
	h.First, h.Last = min(h.First, first), max(h.Last, last)
	return h
}

// inFilter is the contents of a batch as its filter shows them.
type inFilter struct{ words block.Words }

func (f inFilter) HasWord(hash uint64) bool         { return f.words.Has(hash) }
func (f inFilter) HasText(*condition.Searcher) bool { return true }
func (f inFilter) HasValue(name string, v []byte) bool {
	hash, is := search.ValueHash(name, v)
	return !is || f.words.Has(hash)
}
