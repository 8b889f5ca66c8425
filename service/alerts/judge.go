package alerts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/alert"
	"oakbarrel/core/record"
	"oakbarrel/service/guard"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

const (
	roundTime    = time.Second
	clockTime    = 10 * time.Second // between two looks at what time alone changes
	leaseTime    = 30 * time.Second
	mostRows     = 50          // of hits that are judged together
	statesOnce   = 500         // that one statement reads or writes
	pauseTime    = time.Minute // without a round, after which what is missing may only be late
	learnTime    = time.Hour   // for which a cask has to have records before shapes are new in it
	sweepTime    = time.Hour
	noticesStay  = 365 * 24 * time.Hour // that are done
	deliveryStay = 90 * 24 * time.Hour
)

// Judge judges what batches have said to alerts, and notes what people are to be told. One
// service of those before a database does so at a time.
type Judge struct {
	DB      *gorm.DB
	Shelves *shelf.Set
	Log     *slog.Logger
	Holder  string // tells this service apart from others
	Now     func() time.Time
	Watch   *Watch // while it knows of no alerts, nothing is asked; nil to ask always

	rounds  time.Time // when the last one was
	since   time.Time // since when nothing keeps records from coming
	clocked time.Time
	swept   time.Time
	ready   readied
}

// Run judges until ctx ends.
func (j *Judge) Run(ctx context.Context) {
	for ctx.Err() == nil {
		var more bool
		var err error
		if j.Watch.Any() {
			err = guard.Run(func() (err error) {
				more, err = j.Once(ctx)
				return err
			})
		}
		if err != nil && ctx.Err() == nil {
			j.Log.Warn("alerts cannot be judged now", "why", err)
		}
		if more {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(roundTime):
		}
	}
}

func (j *Judge) lease() model.Lease {
	return model.Lease{Job: "alerts", Holder: j.Holder, For: leaseTime}
}

// change is a transaction of the first database that holds only where this service judges still.
func (j *Judge) change(ctx context.Context, do func(tx *gorm.DB) error) error {
	return j.lease().Change(j.DB.WithContext(ctx), do)
}

// Once judges what there is now, and tells whether there is more.
func (j *Judge) Once(ctx context.Context) (more bool, err error) {
	db := j.DB.WithContext(ctx)
	if mine, err := j.lease().Take(db); err != nil || !mine {
		return false, err
	}
	now := j.Now()
	if now.Sub(j.rounds) > pauseTime || now.Before(j.rounds) {
		j.since = now
	}
	j.rounds = now
	all, err := j.alerts(db)
	if err != nil {
		return false, err
	}
	for _, of := range j.Shelves.All() {
		full, err := j.judgeShelf(ctx, of, all)
		var away *shelf.Away
		if errors.As(err, &away) {
			j.since = now // what it has is missing everywhere
			continue
		}
		if err != nil {
			return false, err
		}
		more = more || full
	}
	if !more && (now.Sub(j.clocked) >= clockTime || now.Before(j.clocked)) { // what is not judged yet is not missing
		if err := j.lookAtClock(ctx, all, now); err != nil {
			return false, err
		}
		j.clocked = now
	}
	if err := j.tell(ctx, all, now); err != nil {
		return false, err
	}
	if now.Sub(j.swept) >= sweepTime {
		j.swept = now
		err = j.sweep(ctx, now)
	}
	return more, err
}

// alerts returns the alerts that can be asked, by id.
func (j *Judge) alerts(db *gorm.DB) (readied, error) {
	rows, err := alertsOn(db)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	casks, err := casksByName(db)
	if err != nil {
		return nil, err
	}
	return j.ready.all(db, rows, casks)
}

// judgeShelf judges what stands on a shelf, and tells whether there may be more.
func (j *Judge) judgeShelf(ctx context.Context, of *shelf.Shelf, all readied) (more bool, err error) {
	db, err := of.DB(ctx)
	if err != nil {
		return false, err
	}
	var rows []model.Hits
	if err := db.Order("id").Limit(mostRows).Find(&rows).Error; err != nil || len(rows) == 0 {
		return false, err
	}
	more = len(rows) == mostRows
	var ids []uint64
	for _, r := range rows {
		ids = append(ids, r.ID)
	}
	hits, err := j.notTaken(ctx, of.ID, rows, ids)
	if err != nil {
		return false, err
	}
	hits = slices.DeleteFunc(hits, func(h hit) bool { a := all[h.AlertID]; return a == nil || a.number != h.Number })
	if hits, err = j.onlyNew(ctx, hits); err != nil {
		return false, err
	}
	err = j.change(ctx, func(tx *gorm.DB) error {
		if err := j.take(tx, all, hits); err != nil {
			return err
		}
		var taken []model.HitsTaken
		for _, id := range ids {
			taken = append(taken, model.HitsTaken{ShelfID: of.ID, HitsID: id})
		}
		return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(taken).Error
	})
	if err != nil {
		return false, err
	}
	if err := db.Where("id IN ?", ids).Delete(&model.Hits{}).Error; err != nil {
		return false, err
	}
	return more, j.DB.WithContext(ctx).Where("shelf_id = ? AND hits_id IN ?", of.ID, ids).Delete(&model.HitsTaken{}).Error
}

// hit is a hit, and when its batch came.
type hit struct {
	model.Hit
	arrived int64
}

// notTaken returns the hits of rows, but for those that were judged before, and could not be
// removed. A row that cannot be read says nothing.
func (j *Judge) notTaken(ctx context.Context, shelf uint32, rows []model.Hits, ids []uint64) (hits []hit, err error) {
	var taken []uint64
	if err := j.DB.WithContext(ctx).Model(&model.HitsTaken{}).Where("shelf_id = ? AND hits_id IN ?", shelf, ids).Pluck("hits_id", &taken).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		if slices.Contains(taken, r.ID) {
			continue
		}
		said, err := model.OpenHits(r.Said)
		if err != nil {
			j.Log.Error(err.Error(), "shelf", shelf, "row", r.ID)
		}
		for _, h := range said {
			hits = append(hits, hit{h, r.Arrived})
		}
	}
	return hits, nil
}

// onlyNew leaves out hits of shapes that another shelf knows for longer, and those of casks that
// have had records for too short a time to tell what is new in them.
func (j *Judge) onlyNew(ctx context.Context, hits []hit) ([]hit, error) {
	type caskKey struct{ cask, key uint64 }
	began := map[caskKey]int64{}
	for _, h := range hits {
		if of := h.Shape; of != nil {
			began[caskKey{of.CaskID, of.Key}] = of.Began
			began[caskKey{of.CaskID, 0}] = of.Began
		}
	}
	if len(began) == 0 {
		return hits, nil
	}
	for _, of := range j.Shelves.All() {
		db, err := of.DB(ctx)
		if err != nil { // what it knows would only make less of it new; nobody waits for it
			continue
		}
		for k := range began {
			query := db.Model(&model.Shape{}).Where("cask_id = ?", k.cask)
			if k.key != 0 {
				query = query.Where("`key` = ?", k.key)
			}
			var first *int64
			if err := query.Select("MIN(first)").Scan(&first).Error; err != nil {
				return nil, err
			}
			if first != nil {
				began[k] = min(began[k], *first)
			}
		}
	}
	return slices.DeleteFunc(hits, func(h hit) bool {
		of := h.Shape
		return of != nil && (began[caskKey{of.CaskID, of.Key}] < of.Began || began[caskKey{of.CaskID, 0}] > h.arrived-learnTime.Microseconds())
	}), nil
}

// stateKey is what tells states apart.
type stateKey struct {
	alert uint64
	who   string
}

// state is an alert's state of one who, and its row.
type state struct {
	alert.State
	row model.AlertState
}

type states map[stateKey]*state

// take judges hits.
func (j *Judge) take(tx *gorm.DB, all readied, hits []hit) error {
	said := map[stateKey][]alert.Hit{}
	for _, h := range hits {
		key := stateKey{h.AlertID, h.Who}
		said[key] = append(said[key], alert.Hit{At: h.First, To: h.Last, Count: h.Count, Of: h.Also, Value: h.Value, Arrived: h.arrived})
	}
	keys := slices.SortedFunc(maps.Keys(said), compareKeys)
	known, err := readStates(tx, keys)
	if err != nil {
		return err
	}
	changed, news, counts := states{}, newsOf{}, map[uint64]int64{}
	for _, key := range keys {
		s, err := stateFor(tx, known, counts, key)
		if err != nil {
			return err
		}
		changed[stateKey{key.alert, s.row.Who}] = s
		news.add(all[key.alert], s, all[key.alert].Take(&s.State, said[key], j.since.UnixMicro()))
	}
	if err := news.write(tx, j.Now()); err != nil {
		return err
	}
	return changed.save(tx)
}

func compareKeys(a, b stateKey) int {
	return cmp.Or(cmp.Compare(a.alert, b.alert), cmp.Compare(a.who, b.who))
}

// stateFor returns the state of one who: one that is known, a new one, or that of all others.
// counts are how many an alert has.
func stateFor(tx *gorm.DB, known states, counts map[uint64]int64, key stateKey) (*state, error) {
	if s := known[key]; s != nil {
		return s, nil
	}
	if _, counted := counts[key.alert]; !counted {
		var n int64
		if err := tx.Model(&model.AlertState{}).Where("alert_id = ?", key.alert).Count(&n).Error; err != nil {
			return nil, err
		}
		counts[key.alert] = n
	}
	if as := alert.Who(key.who, false, int(counts[key.alert])); as != key.who {
		key.who = as
		others, err := readStates(tx, []stateKey{key})
		if err != nil {
			return nil, err
		}
		if known[key] == nil && others[key] != nil {
			known[key] = others[key]
		}
	}
	if known[key] == nil {
		known[key] = &state{row: model.AlertState{AlertID: key.alert, Who: key.who}}
		counts[key.alert]++
	}
	return known[key], nil
}

func readStates(tx *gorm.DB, keys []stateKey) (states, error) {
	found := states{}
	for some := range slices.Chunk(keys, statesOnce) {
		byAlert := map[uint64][][]byte{} // what is no text is compared as it stands
		for _, k := range some {
			byAlert[k.alert] = append(byAlert[k.alert], []byte(k.who))
		}
		wanted := tx.Where("1 = 0")
		for id, whos := range byAlert {
			wanted = wanted.Or("alert_id = ? AND who IN ?", id, whos)
		}
		var rows []model.AlertState
		if err := tx.Where(wanted).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			found[stateKey{r.AlertID, r.Who}] = openState(r)
		}
	}
	return found, nil
}

func openState(row model.AlertState) *state {
	s := &state{row: row}
	if json.Unmarshal([]byte(row.State), &s.State) != nil { // nobody else writes it
		s.State = alert.State{}
	}
	return s
}

func (all states) save(tx *gorm.DB) error {
	var rows []model.AlertState
	for _, key := range slices.SortedFunc(maps.Keys(all), compareKeys) {
		s := all[key]
		text, err := json.Marshal(s.State)
		if err != nil {
			return err
		}
		s.row.State, s.row.Holds, s.row.Last = string(text), s.Holds, max(s.Last, s.Until)
		rows = append(rows, s.row)
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, statesOnce).Error
}

// lookAtClock judges what time alone changes.
func (j *Judge) lookAtClock(ctx context.Context, all readied, now time.Time) error {
	timed := []uint64{0}
	for id, a := range all {
		if a.Kind == alert.Fewer || a.Kind == alert.Silent {
			timed = append(timed, id)
		}
	}
	return j.change(ctx, func(tx *gorm.DB) error {
		var rows []model.AlertState
		if err := tx.Where("holds = 1 OR alert_id IN ?", timed).Order("alert_id, who").Find(&rows).Error; err != nil {
			return err
		}
		news, changed := newsOf{}, states{}
		for _, r := range rows {
			a := all[r.AlertID]
			if a == nil {
				continue // it is off
			}
			s := openState(r)
			change := a.Look(&s.State, now.UnixMicro(), j.since.UnixMicro())
			if change != alert.None {
				changed[stateKey{r.AlertID, r.Who}] = s
			}
			news.add(a, s, change)
		}
		if err := news.write(tx, now); err != nil {
			return err
		}
		return changed.save(tx)
	})
}

// newsOf gathers what has changed, by alert.
type newsOf map[*live][]news

type news struct {
	*state
	change alert.Change
}

func (n newsOf) add(a *live, s *state, change alert.Change) {
	if change != alert.None {
		n[a] = append(n[a], news{s, change})
	}
}

// write notes what has changed, in the order of the alerts.
func (n newsOf) write(tx *gorm.DB, now time.Time) error {
	for _, a := range slices.SortedFunc(maps.Keys(n), func(a, b *live) int { return cmp.Compare(a.id, b.id) }) {
		if err := writeNews(tx, a, n[a], now); err != nil {
			return err
		}
	}
	return nil
}

// writeNews notes what has changed in the notice of an alert that is open, or in a new one.
func writeNews(tx *gorm.DB, a *live, all []news, now time.Time) error {
	notice, err := noticeFor(tx, a, all, now)
	if err != nil || notice == nil {
		return err
	}
	known, err := aboutOf(tx, notice.ID, all)
	if err != nil {
		return err
	}
	var rows []model.NoticeWho
	for _, s := range all {
		row, is := known[s.row.Who]
		if !is && s.change != alert.Began {
			continue // it was told in a notice that is done
		}
		if s.change == alert.Began {
			notice.Times++
			notice.Pending, row.New = true, true
			row.NoticeID, row.Who, row.Since = notice.ID, s.row.Who, s.Since
			row.Times++
		}
		row.Holds, row.Until = s.Holds, s.Until
		row.Line, row.Where = harmless(a.Line(s.row.Who, &s.State)), valid(a.Where(s.row.Who))
		notice.Since, notice.Until = min(notice.Since, row.Since), max(notice.Until, row.Until)
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, statesOnce).Error; err != nil {
		return err
	}
	var holding int64
	if err := tx.Model(&model.NoticeWho{}).Where("notice_id = ? AND holds = 1", notice.ID).Count(&holding).Error; err != nil {
		return err
	}
	notice.Holds, notice.Changed = holding > 0, now
	return tx.Save(notice).Error
}

// aboutOf returns what a notice says of those who have changed.
func aboutOf(tx *gorm.DB, notice uint64, all []news) (map[string]model.NoticeWho, error) {
	var whos [][]byte
	for _, s := range all {
		whos = append(whos, []byte(s.row.Who))
	}
	known := map[string]model.NoticeWho{}
	for some := range slices.Chunk(whos, statesOnce) {
		var rows []model.NoticeWho
		if err := tx.Where("notice_id = ? AND who IN ?", notice, some).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			known[r.Who] = r
		}
	}
	return known, nil
}

// noticeFor returns the open notice of an alert, locked; a new one where something has begun; nil
// where there is none.
func noticeFor(tx *gorm.DB, a *live, all []news, now time.Time) (*model.Notice, error) {
	var found []model.Notice
	err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("alert_id = ? AND state <> 'done'", a.id).Order("id DESC").Limit(1).Find(&found).Error
	if err != nil {
		return nil, err
	}
	if len(found) > 0 {
		return &found[0], nil
	}
	i := slices.IndexFunc(all, func(s news) bool { return s.change == alert.Began })
	if i < 0 {
		return nil, nil
	}
	notice := &model.Notice{AlertID: a.id, State: client.NoticeTold, Alert: a.Name, Note: harmlessLines(a.Note), Since: all[i].Since, Created: now, Changed: now}
	if a.cask != 0 {
		notice.CaskID = &a.cask
	}
	return notice, tx.Create(notice).Error
}

// sweep removes what nobody needs any more.
func (j *Judge) sweep(ctx context.Context, now time.Time) error {
	for _, of := range j.Shelves.All() {
		if err := j.sweepTaken(ctx, of); err != nil {
			return err
		}
	}
	return j.change(ctx, func(tx *gorm.DB) error {
		before := now.Add(-30 * 24 * time.Hour).UnixMicro()
		if err := tx.Where("holds = 0 AND last < ?", before).Delete(&model.AlertState{}).Error; err != nil {
			return err
		}
		var old []uint64
		if err := tx.Model(&model.Notice{}).Where("state = 'done' AND changed < ?", now.Add(-noticesStay)).Limit(statesOnce).Pluck("id", &old).Error; err != nil {
			return err
		}
		if len(old) > 0 {
			for _, of := range []any{&model.NoticeWho{}, &model.Delivery{}} {
				if err := tx.Where("notice_id IN ?", old).Delete(of).Error; err != nil {
					return err
				}
			}
			if err := tx.Where("id IN ?", old).Delete(&model.Notice{}).Error; err != nil {
				return err
			}
		}
		return tx.Where("done < ?", now.Add(-deliveryStay)).Delete(&model.Delivery{}).Error
	})
}

// sweepTaken removes the notes of hits that stand on a shelf no more.
func (j *Judge) sweepTaken(ctx context.Context, of *shelf.Shelf) error {
	db, err := of.DB(ctx)
	if err != nil {
		return nil // it is away, and is swept the next time
	}
	var taken, there []uint64
	if err := j.DB.WithContext(ctx).Model(&model.HitsTaken{}).Where("shelf_id = ?", of.ID).Limit(statesOnce).Pluck("hits_id", &taken).Error; err != nil || len(taken) == 0 {
		return err
	}
	if err := db.Model(&model.Hits{}).Where("id IN ?", taken).Pluck("id", &there).Error; err != nil {
		return err
	}
	return j.change(ctx, func(tx *gorm.DB) error {
		gone := slices.DeleteFunc(taken, func(id uint64) bool { return slices.Contains(there, id) })
		return tx.Where("shelf_id = ? AND hits_id IN ?", of.ID, gone).Delete(&model.HitsTaken{}).Error
	})
}

// harmless makes a text that a sender may have written fit to be kept and shown.
func harmless(text string) string { return record.Visible(text) }

// harmlessLines is harmless for a text of several lines.
func harmlessLines(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = harmless(line)
	}
	return strings.Join(lines, "\n")
}
