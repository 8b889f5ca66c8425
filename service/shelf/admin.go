package shelf

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"regexp"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/service/model"
)

// ErrNone says that there is no shelf of that name.
var ErrNone = errors.New("there is no shelf of that name")

var isName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,31}$`)

// IsName tells whether a text can be the name of a shelf.
func IsName(name string) bool { return isName.MatchString(name) }

// Add adds a database, or a cluster, to the shelves of a store. It must be empty, or have
// been this very shelf before.
func Add(first *gorm.DB, name, dsn string, size int64) (row model.Shelf, err error) {
	store, err := model.StoreID(first)
	if err != nil {
		return row, err
	}
	db, err := model.OpenShelf(dsn, slog.New(slog.DiscardHandler))
	if err != nil {
		return row, err
	}
	defer closePool(db)
	var is model.Store
	if err := db.Take(&is, 1).Error; err != nil {
		return row, err
	}
	err = first.Where("name = ?", name).Take(&row).Error
	switch {
	case err == nil && row.DSN == dsn && is.Name == store && is.ShelfID == row.ID:
		return row, nil // it was added before
	case err == nil && row.DSN != dsn:
		return row, fmt.Errorf("there is a shelf %s already", name)
	case err != nil && !errors.Is(err, gorm.ErrRecordNotFound):
		return row, err
	}
	if err := mayBecome(db, is, store); err != nil {
		return row, err
	}
	row = model.Shelf{ID: row.ID, Name: name, DSN: dsn, Size: size, Created: time.Now()}
	if err := first.Save(&row).Error; err != nil {
		return row, err
	}
	// A service takes it for away until it says which shelf it is.
	return row, db.Model(&model.Store{}).Where("id = 1").Updates(map[string]any{"name": store, "shelf_id": row.ID}).Error
}

// mayBecome tells why a database cannot become a new shelf.
func mayBecome(db *gorm.DB, is model.Store, store string) error {
	if is.Name == store && is.ShelfID == model.FirstShelf {
		return errors.New("this database is the first shelf itself, or a copy of it")
	}
	for _, of := range []any{&model.Block{}, &model.Feed{}, &model.Cask{}, &model.Token{}, &model.Account{}} {
		var n int64
		if err := db.Model(of).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return errors.New("this database is not empty: it holds another store, or is another shelf; make a new one")
		}
	}
	return nil
}

// locked returns a shelf, and keeps others from changing it until the transaction ends.
func locked(tx *gorm.DB, name string) (row model.Shelf, err error) {
	err = tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrNone
	}
	return row, err
}

// change changes one shelf.
func change(first *gorm.DB, name string, what map[string]any) error {
	return model.Transact(first, func(tx *gorm.DB) error {
		row, err := locked(tx, name)
		if err != nil {
			return err
		}
		return tx.Model(&row).Updates(what).Error
	})
}

// Resize changes how many bytes a shelf is meant to hold.
func Resize(first *gorm.DB, name string, size int64) error {
	return change(first, name, map[string]any{"size": size})
}

// Redirect has a shelf reached by another DSN: its password has changed, or its server. The
// database behind it must be this very shelf.
func Redirect(first *gorm.DB, name, dsn string) error {
	var row model.Shelf
	err := first.Where("name = ?", name).Take(&row).Error
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNone
	case err != nil:
		return err
	case row.ID == model.FirstShelf:
		return errors.New("the first shelf is named by --database-file of the services")
	}
	store, err := model.StoreID(first)
	if err != nil {
		return err
	}
	db, err := model.OpenShelf(dsn, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer closePool(db)
	if _, err := ask(first.Statement.Context, db, row.ID, store); err != nil {
		return err
	}
	return change(first, name, map[string]any{"dsn": dsn})
}

// Drain has a shelf give its feeds to others, or has it take feeds again.
func Drain(first *gorm.DB, name string, drains bool) error {
	if drains {
		var others int64
		if err := first.Model(&model.Shelf{}).Where("name <> ? AND drains = 0", name).Count(&others).Error; err != nil {
			return err
		}
		if others == 0 {
			return errors.New("there is no other shelf that takes its feeds; add one first")
		}
	}
	return change(first, name, map[string]any{"drains": drains})
}

// Remove forgets a shelf on which no feed lives.
func Remove(first *gorm.DB, name string) error {
	return model.Transact(first, func(tx *gorm.DB) error {
		row, err := locked(tx, name)
		if err != nil {
			return err
		}
		if row.ID == model.FirstShelf {
			return errors.New("the first shelf tells of all others, and stays")
		}
		var feeds int64
		if err := tx.Model(&model.Feed{}).Where("shelf_id = ?", row.ID).Count(&feeds).Error; err != nil {
			return err
		}
		if feeds > 0 || !row.Drains {
			return fmt.Errorf("%d feeds live on it, and new ones may; drain it first", feeds)
		}
		if err := tx.Model(&model.Cask{}).Where("shelf_id = ?", row.ID).Update("shelf_id", 0).Error; err != nil {
			return err
		}
		return tx.Delete(&row).Error
	})
}

// Told is what can be told of a shelf.
type Told struct {
	Name   string   `json:"name"`
	State  string   `json:"state"` // "in use", "drains", "drained" or "away"
	Why    string   `json:"why,omitempty"`
	Feeds  int64    `json:"feeds"`  // that live on it
	Bytes  int64    `json:"bytes"`  // of its tables, 0 where it is away
	Size   int64    `json:"size"`   // bytes that it is meant to hold
	Faults []string `json:"faults"` // what Check has found; empty otherwise
}

// List tells of all shelves.
func (s *Set) List(ctx context.Context) ([]Told, error) {
	feeds, err := FeedsOn(s.First(ctx))
	if err != nil {
		return nil, err
	}
	all := []Told{}
	for _, of := range s.All() {
		row := of.Row()
		t := Told{Name: row.Name, State: "in use", Feeds: feeds[of.ID], Size: row.Size, Faults: []string{}}
		db, err := of.DB(ctx)
		if err == nil {
			t.Bytes, err = BytesOf(ctx, db)
		}
		var away *Away
		switch {
		case errors.As(err, &away):
			t.State, t.Why = "away", away.Why.Error()
		case err != nil:
			t.State, t.Why = "away", err.Error()
		case row.Drains && t.Feeds > 0:
			t.State = "drains"
		case row.Drains:
			t.State = "drained"
		}
		all = append(all, t)
	}
	return all, nil
}

// feedsTogether is how many feeds are compared at a time.
const feedsTogether = 1000

// Check looks whether each shelf is set up well, and has the feeds that the first one says
// live on it.
func (s *Set) Check(ctx context.Context) ([]Told, error) {
	all, err := s.List(ctx)
	for i := range all {
		of := s.All()[i]
		db, away := of.DB(ctx)
		if err != nil || away != nil {
			continue
		}
		found, err := model.Look(db)
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			all[i].Faults = append(all[i].Faults, f.What+"; "+f.Mend)
		}
		lost, strange, err := s.compare(ctx, of, db)
		if err != nil {
			return nil, err
		}
		if lost > 0 {
			all[i].Faults = append(all[i].Faults, fmt.Sprintf("%d feeds are to live here, and are not there: the shelf was restored from an older copy; their agents go on with what they hold once they begin anew", lost))
		}
		if strange > 0 {
			all[i].Faults = append(all[i].Faults, fmt.Sprintf("%d feeds live here that the first shelf does not know, or knows elsewhere: that was restored from an older copy; a service takes them over when it starts", strange))
		}
	}
	return all, err
}

// compare counts the feeds that are to live on a shelf and are not there, and those that do
// and are not to.
func (s *Set) compare(ctx context.Context, of *Shelf, db *gorm.DB) (lost, strange int64, err error) {
	if of.ID == model.FirstShelf {
		return 0, 0, nil
	}
	sides := [2]map[uint64]bool{{}, {}}
	for i, from := range []*gorm.DB{s.First(ctx), db} {
		var ids []uint64
		if err := from.Model(&model.Feed{}).Where("shelf_id = ? AND fenced = 0", of.ID).Pluck("id", &ids).Error; err != nil {
			return 0, 0, err
		}
		for _, id := range ids {
			sides[i][id] = true
		}
	}
	return missing(sides[0], sides[1]), missing(sides[1], sides[0]), nil
}

// missing counts what one side has and the other has not.
func missing(has, not map[uint64]bool) (n int64) {
	for id := range has {
		if !not[id] {
			n++
		}
	}
	return n
}

// Adopt takes the feeds of a shelf over that the first one does not know: that was restored
// from an older copy. It tells how many, and how many have a number that another one has.
func (s *Set) Adopt(ctx context.Context, of *Shelf) (adopted, taken int64, err error) {
	db, err := of.DB(ctx)
	if err != nil || of.ID == model.FirstShelf {
		return 0, 0, err
	}
	for last := uint64(0); ; {
		var feeds []model.Feed
		if err := db.Where("id > ? AND shelf_id = ? AND fenced = 0", last, of.ID).Order("id").Limit(feedsTogether).Find(&feeds).Error; err != nil || len(feeds) == 0 {
			return adopted, taken, err
		}
		last = feeds[len(feeds)-1].ID
		var ids []uint64
		for i := range feeds {
			ids = append(ids, feeds[i].ID)
		}
		var known []model.Feed
		if err := s.First(ctx).Where("id IN ?", ids).Find(&known).Error; err != nil {
			return adopted, taken, err
		}
		by := map[uint64]model.Feed{}
		for _, f := range known {
			by[f.ID] = f
		}
		for _, f := range feeds {
			k, is := by[f.ID]
			switch {
			case is && k.AgentID == f.AgentID && k.Outlet == f.Outlet && k.CaskID == f.CaskID && k.Generation == f.Generation:
			case is:
				taken++
			default:
				f = model.Feed{ID: f.ID, CaskID: f.CaskID, AgentID: f.AgentID, Outlet: f.Outlet, Generation: f.Generation, ShelfID: of.ID}
				made := s.First(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&f)
				if made.Error != nil {
					return adopted, taken, made.Error
				}
				adopted += made.RowsAffected
				taken += 1 - made.RowsAffected
			}
		}
	}
}
