package alerts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/core/alert"
	"oakbarrel/core/record"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

const (
	roundTime    = time.Second
	clockTime    = 10 * time.Second // between two looks at what time alone changes
	leaseTime    = 30 * time.Second
	mostHits     = 5000        // that are judged together
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

	rounds  time.Time // when the last one was
	since   time.Time // since when nothing keeps records from coming
	clocked time.Time
	swept   time.Time
}

// Run judges until ctx ends.
func (j *Judge) Run(ctx context.Context) {
	for ctx.Err() == nil {
		more, err := j.guarded(ctx)
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

// guarded is Once, of which a panic is an error.
func (j *Judge) guarded(ctx context.Context) (more bool, err error) {
	defer func() {
		if what := recover(); what != nil {
			err = fmt.Errorf("a fault of the service: %v at %s", what, debug.Stack())
		}
	}()
	return j.Once(ctx)
}

func (j *Judge) lease() model.Lease {
	return model.Lease{Job: "alerts", Holder: j.Holder, For: leaseTime}
}

// change is a transaction of the first database that holds only where this service judges still.
func (j *Judge) change(ctx context.Context, do func(tx *gorm.DB) error) error {
	return model.Transact(j.DB.WithContext(ctx), func(tx *gorm.DB) error {
		if err := j.lease().Keep(tx); err != nil {
			return err
		}
		return do(tx)
	})
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
	all, err := liveAlerts(db)
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

// liveAlerts returns the alerts that can be asked, by id.
func liveAlerts(db *gorm.DB) (map[uint64]*live, error) {
	var rows []model.Alert
	if err := db.Where("off = 0").Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	casks, _, err := namesOf(db)
	all := map[uint64]*live{}
	for _, row := range rows {
		if l, err := ask(row, casks); err == nil {
			all[row.ID] = l
		}
	}
	return all, err
}

// judgeShelf judges what stands on a shelf, and tells whether there may be more.
func (j *Judge) judgeShelf(ctx context.Context, of *shelf.Shelf, all map[uint64]*live) (more bool, err error) {
	db, err := of.DB(ctx)
	if err != nil {
		return false, err
	}
	var hits []model.Hit
	if err := db.Order("id").Limit(mostHits).Find(&hits).Error; err != nil || len(hits) == 0 {
		return false, err
	}
	more = len(hits) == mostHits
	var ids []uint64
	for _, h := range hits {
		ids = append(ids, h.ID)
	}
	if hits, err = j.notTaken(ctx, of.ID, hits, ids); err != nil {
		return false, err
	}
	hits = slices.DeleteFunc(hits, func(h model.Hit) bool { a := all[h.AlertID]; return a == nil || a.number != h.Number })
	if hits, err = j.onlyNew(ctx, all, hits); err != nil {
		return false, err
	}
	err = j.change(ctx, func(tx *gorm.DB) error {
		if err := j.take(tx, all, hits); err != nil {
			return err
		}
		var taken []model.HitTaken
		for _, id := range ids {
			taken = append(taken, model.HitTaken{ShelfID: of.ID, HitID: id})
		}
		return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(taken, statesOnce).Error
	})
	if err != nil {
		return false, err
	}
	for some := range slices.Chunk(ids, statesOnce) {
		if err := db.Where("id IN ?", some).Delete(&model.Hit{}).Error; err != nil {
			return false, err
		}
		if err := j.DB.WithContext(ctx).Where("shelf_id = ? AND hit_id IN ?", of.ID, some).Delete(&model.HitTaken{}).Error; err != nil {
			return false, err
		}
	}
	return more, nil
}

// notTaken leaves out the hits that were judged before, and could not be removed.
func (j *Judge) notTaken(ctx context.Context, shelf uint32, hits []model.Hit, ids []uint64) ([]model.Hit, error) {
	taken := map[uint64]bool{}
	for some := range slices.Chunk(ids, statesOnce) {
		var found []uint64
		if err := j.DB.WithContext(ctx).Model(&model.HitTaken{}).Where("shelf_id = ? AND hit_id IN ?", shelf, some).Pluck("hit_id", &found).Error; err != nil {
			return nil, err
		}
		for _, id := range found {
			taken[id] = true
		}
	}
	return slices.DeleteFunc(hits, func(h model.Hit) bool { return taken[h.ID] }), nil
}

// onlyNew leaves out hits of shapes that another shelf knows for longer, and those of casks that
// have had records for too short a time to tell what is new in them.
func (j *Judge) onlyNew(ctx context.Context, all map[uint64]*live, hits []model.Hit) ([]model.Hit, error) {
	type caskKey struct{ cask, key uint64 }
	began := map[caskKey]int64{}
	for _, h := range hits {
		if all[h.AlertID].Kind == alert.NewShape {
			began[caskKey{h.CaskID, h.Key}] = h.Began
			began[caskKey{h.CaskID, 0}] = h.Began
		}
	}
	if len(began) == 0 {
		return hits, nil
	}
	for _, of := range j.Shelves.All() {
		db, err := of.DB(ctx)
		if err != nil {
			return nil, err
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
	return slices.DeleteFunc(hits, func(h model.Hit) bool {
		if all[h.AlertID].Kind != alert.NewShape {
			return false
		}
		return began[caskKey{h.CaskID, h.Key}] < h.Began || began[caskKey{h.CaskID, 0}] > h.Arrived-learnTime.Microseconds()
	}), nil
}

// take judges hits.
func (j *Judge) take(tx *gorm.DB, all map[uint64]*live, hits []model.Hit) error {
	byAlert := map[uint64]map[string][]alert.Hit{}
	for _, h := range hits {
		if byAlert[h.AlertID] == nil {
			byAlert[h.AlertID] = map[string][]alert.Hit{}
		}
		byAlert[h.AlertID][h.Who] = append(byAlert[h.AlertID][h.Who], alert.Hit{At: h.First, To: h.Last, Count: h.Count, Of: h.Also, Value: h.Value, Arrived: h.Arrived})
	}
	for _, id := range slices.Sorted(maps.Keys(byAlert)) {
		if err := j.takeOf(tx, all[id], byAlert[id]); err != nil {
			return err
		}
	}
	return nil
}

func (j *Judge) takeOf(tx *gorm.DB, a *live, hits map[string][]alert.Hit) error {
	states, err := statesOf(tx, a.id, slices.Sorted(maps.Keys(hits)))
	if err != nil {
		return err
	}
	var known int64
	if len(states) < len(hits) {
		if err := tx.Model(&model.AlertState{}).Where("alert_id = ?", a.id).Count(&known).Error; err != nil {
			return err
		}
	}
	news := newsOf{alert: a}
	changed := map[string]*state{}
	for _, who := range slices.Sorted(maps.Keys(hits)) {
		as := alert.Who(who, states[who] != nil, int(known))
		s := states[as]
		if s == nil && as != who {
			if s, err = stateOf(tx, a.id, as); err != nil {
				return err
			}
		}
		if s == nil {
			s = &state{row: model.AlertState{AlertID: a.id, Who: as}}
			known++
		}
		states[as], changed[as] = s, s
		news.add(s, a.Take(&s.State, hits[who]))
	}
	if err := news.write(tx, j.Now()); err != nil {
		return err
	}
	return saveStates(tx, changed)
}

// state is an alert's state of one who, and its row.
type state struct {
	alert.State
	row model.AlertState
}

func statesOf(tx *gorm.DB, id uint64, whos []string) (map[string]*state, error) {
	states := map[string]*state{}
	for some := range slices.Chunk(whos, statesOnce) {
		var rows []model.AlertState
		if err := tx.Where("alert_id = ? AND who IN ?", id, asBytes(some)).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			states[r.Who] = openState(r)
		}
	}
	return states, nil
}

// asBytes has the database compare what is not text as it stands.
func asBytes(texts []string) (all [][]byte) {
	for _, t := range texts {
		all = append(all, []byte(t))
	}
	return all
}

func stateOf(tx *gorm.DB, id uint64, who string) (*state, error) {
	found, err := statesOf(tx, id, []string{who})
	return found[who], err
}

func openState(row model.AlertState) *state {
	s := &state{row: row}
	if json.Unmarshal([]byte(row.State), &s.State) != nil { // nobody else writes it
		s.State = alert.State{}
	}
	return s
}

func saveStates(tx *gorm.DB, states map[string]*state) error {
	var rows []model.AlertState
	for _, who := range slices.Sorted(maps.Keys(states)) {
		s := states[who]
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
func (j *Judge) lookAtClock(ctx context.Context, all map[uint64]*live, now time.Time) error {
	for _, id := range slices.Sorted(maps.Keys(all)) {
		a := all[id]
		err := j.change(ctx, func(tx *gorm.DB) error {
			query := tx.Where("alert_id = ?", id)
			if a.Kind != alert.Fewer && a.Kind != alert.Silent {
				query = query.Where("holds = 1")
			}
			var rows []model.AlertState
			if err := query.Order("who").Find(&rows).Error; err != nil || len(rows) == 0 {
				return err
			}
			news, changed := newsOf{alert: a}, map[string]*state{}
			for _, r := range rows {
				s := openState(r)
				change := a.Look(&s.State, now.UnixMicro(), j.since.UnixMicro())
				if change != alert.None {
					changed[r.Who] = s
				}
				news.add(s, change)
			}
			if err := news.write(tx, now); err != nil {
				return err
			}
			return saveStates(tx, changed)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// newsOf gathers what has changed for an alert.
type newsOf struct {
	alert *live
	all   []news
}

type news struct {
	*state
	change alert.Change
}

func (n *newsOf) add(s *state, change alert.Change) {
	if change != alert.None {
		n.all = append(n.all, news{s, change})
	}
}

// write notes what has changed in the notice of the alert that is open, or in a new one.
func (n *newsOf) write(tx *gorm.DB, now time.Time) error {
	if len(n.all) == 0 {
		return nil
	}
	notice, err := n.notice(tx, now)
	if err != nil || notice == nil {
		return err
	}
	var whos []string
	for _, s := range n.all {
		whos = append(whos, s.row.Who)
	}
	known := map[string]model.NoticeWho{}
	for some := range slices.Chunk(whos, statesOnce) {
		var rows []model.NoticeWho
		if err := tx.Where("notice_id = ? AND who IN ?", notice.ID, asBytes(some)).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			known[r.Who] = r
		}
	}
	var rows []model.NoticeWho
	for _, s := range n.all {
		row, is := known[s.row.Who]
		if !is && s.change != alert.Began {
			continue // it was told in a notice that is done
		}
		if s.change == alert.Began {
			notice.Times++
			notice.Pending, row.New = true, true
			row.NoticeID, row.Who, row.Since = notice.ID, s.row.Who, s.Since
			row.Times++
			s.row.NoticeID = notice.ID
		}
		row.Holds, row.Until = s.Holds, s.Until
		row.Line, row.Where = harmless(n.alert.Line(s.row.Who, &s.State)), valid(n.alert.Where(s.row.Who))
		notice.Since, notice.Until = min(notice.Since, row.Since), max(notice.Until, row.Until)
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	slices.SortFunc(rows, func(a, b model.NoticeWho) int { return cmp.Compare(a.Who, b.Who) })
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

// notice returns the open notice of the alert, locked; a new one where something has begun; nil
// where there is none.
func (n *newsOf) notice(tx *gorm.DB, now time.Time) (*model.Notice, error) {
	var found []model.Notice
	err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("alert_id = ? AND state <> 'done'", n.alert.id).Order("id DESC").Limit(1).Find(&found).Error
	if err != nil || len(found) > 0 {
		return first(found), err
	}
	i := slices.IndexFunc(n.all, func(s news) bool { return s.change == alert.Began })
	if i < 0 {
		return nil, nil
	}
	notice := &model.Notice{AlertID: n.alert.id, State: "told", Alert: n.alert.Name, Note: harmless(n.alert.Note), Since: n.all[i].Since, Created: now, Changed: now}
	if n.alert.cask != 0 {
		notice.CaskID = &n.alert.cask
	}
	return notice, tx.Create(notice).Error
}

func first(all []model.Notice) *model.Notice {
	if len(all) == 0 {
		return nil
	}
	return &all[0]
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
	if err := j.DB.WithContext(ctx).Model(&model.HitTaken{}).Where("shelf_id = ?", of.ID).Limit(mostHits).Pluck("hit_id", &taken).Error; err != nil || len(taken) == 0 {
		return err
	}
	if err := db.Model(&model.Hit{}).Where("id IN ?", taken).Pluck("id", &there).Error; err != nil {
		return err
	}
	return j.change(ctx, func(tx *gorm.DB) error {
		gone := slices.DeleteFunc(taken, func(id uint64) bool { return slices.Contains(there, id) })
		return tx.Where("shelf_id = ? AND hit_id IN ?", of.ID, gone).Delete(&model.HitTaken{}).Error
	})
}

// harmless makes a text that a sender may have written fit to be kept and shown.
func harmless(text string) string { return record.Visible(text) }
