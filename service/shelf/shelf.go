// Package shelf knows the shelves of a store: the databases, or clusters, that hold what is
// kept of feeds. The first one tells of all others, and of who, what and where.
//
// A [Set] looks after the connections: a shelf that is away costs nobody more than its own
// feeds, and is asked again by itself. Its methods may be called by several goroutines.
package shelf

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"oakbarrel/service/model"
)

const (
	lookTime = 2 * time.Second // between two looks at which shelves there are
	askTime  = 3 * time.Second // for which an answer of a shelf is waited for
)

// Set are the shelves of a store.
type Set struct {
	ctx   context.Context
	first *gorm.DB
	notes *slog.Logger

	mu   sync.Mutex
	all  []*Shelf  // in the order of their ids
	seen time.Time // when the first shelf was asked last which there are; zero where that is not done
}

// Shelf is one of them.
type Shelf struct {
	ID uint32

	mu   sync.Mutex
	row  model.Shelf
	db   *gorm.DB // nil while it is away
	away error
	used int64 // bytes of its tables, when it was asked last
	end  func()
}

// New returns the first shelf alone; Run finds the others.
func New(first *gorm.DB, log *slog.Logger) *Set {
	return &Set{first: first, notes: log, all: []*Shelf{{ID: model.FirstShelf, row: model.Shelf{ID: model.FirstShelf, Name: "first", Size: model.UsualSize}, db: first}}}
}

// Open returns all shelves of a store, once each has answered, or was found away.
func Open(ctx context.Context, first *gorm.DB, log *slog.Logger) (*Set, error) {
	s := New(first, log)
	s.ctx = ctx
	opened, err := s.refresh(ctx)
	for _, done := range opened {
		<-done
	}
	return s, err
}

// Run looks which shelves there are, until ctx ends.
func (s *Set) Run(ctx context.Context) {
	for {
		if _, err := s.refresh(ctx); err != nil && ctx.Err() == nil {
			s.notes.Debug("it cannot be told which shelves there are", "why", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookTime):
		}
	}
}

// First returns the database that tells of all others.
func (s *Set) First(ctx context.Context) *gorm.DB { return s.first.WithContext(ctx) }

// All returns the shelves, the first one first.
func (s *Set) All() []*Shelf {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.all)
}

// Of returns a shelf by its id. One that is not known yet is away.
func (s *Set) Of(id uint32) *Shelf {
	for _, of := range s.All() {
		if of.ID == id {
			return of
		}
	}
	return &Shelf{ID: id, row: model.Shelf{Name: fmt.Sprint("number ", id)}, away: errors.New("it is not known to this service yet")}
}

// refresh takes over which shelves there are. What it returns is closed once those that
// are new have answered, or were found away.
func (s *Set) refresh(ctx context.Context) (opened []chan struct{}, err error) {
	var rows []model.Shelf
	if err := s.First(ctx).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	store, err := model.StoreID(s.First(ctx))
	if err != nil {
		return nil, err
	}
	if first := s.Of(model.FirstShelf); len(rows) > 1 {
		if used, err := BytesOf(ctx, s.first); err == nil {
			first.note(s.first, used, nil, s.notes)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []*Shelf
	for _, row := range rows {
		at := slices.IndexFunc(s.all, func(of *Shelf) bool { return of.ID == row.ID })
		var of *Shelf
		if at >= 0 && s.all[at].set(row) {
			of = s.all[at]
		} else {
			of = &Shelf{ID: row.ID, row: row, away: errors.New("it was not asked yet")}
			running, end := context.WithCancel(s.ctx) // which may be longer than a request's
			of.end = end
			first := make(chan struct{})
			opened = append(opened, first)
			go of.look(running, store, s.notes, first)
		}
		all = append(all, of)
	}
	for _, of := range s.all {
		if !slices.Contains(all, of) && of.end != nil {
			of.end()
		}
	}
	s.all, s.seen = all, time.Now()
	return opened, nil
}

// known makes sure that what is known of shelves is not old: of one that is new to this
// service, something may have moved there.
func (s *Set) known(ctx context.Context) error {
	s.mu.Lock()
	old := !s.seen.IsZero() && time.Since(s.seen) > 2*lookTime
	s.mu.Unlock()
	if !old {
		return nil
	}
	_, err := s.refresh(ctx)
	return err
}

// set takes over what is said of a shelf now; false where it is another database.
func (of *Shelf) set(row model.Shelf) bool {
	of.mu.Lock()
	defer of.mu.Unlock()
	if row.DSN != of.row.DSN {
		return false
	}
	of.row = row
	return true
}

// look opens the database of a shelf, and asks again and again whether it answers.
func (of *Shelf) look(ctx context.Context, store string, log *slog.Logger, first chan struct{}) {
	var db *gorm.DB
	defer func() {
		if db != nil {
			closePool(db)
		}
	}()
	row := of.Row()
	for begins := true; ctx.Err() == nil; begins = false {
		var err error
		if db == nil {
			db, err = model.OpenShelf(row.DSN, log)
		}
		var used int64
		if err == nil {
			used, err = ask(ctx, db, row.ID, store)
		}
		of.note(db, used, err, log)
		if begins {
			close(first)
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookTime / 2):
		}
	}
}

// note takes over whether a shelf answers.
func (of *Shelf) note(db *gorm.DB, used int64, err error, log *slog.Logger) {
	of.mu.Lock()
	defer of.mu.Unlock()
	was := of.db != nil
	if of.away = err; err == nil {
		of.db, of.used = db, used
	} else {
		of.db = nil
	}
	switch is := of.db != nil; {
	case was && !is:
		log.Warn("a shelf is away; its feeds wait on their hosts", "shelf", of.row.Name, "why", err)
	case !was && is:
		log.Info("a shelf answers", "shelf", of.row.Name)
	}
}

// ask asks a database how many bytes it has, and whether it is a certain shelf of a store:
// another one may have come in its place.
func ask(ctx context.Context, db *gorm.DB, id uint32, store string) (used int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var is model.Store
	if err := db.WithContext(ctx).Take(&is, 1).Error; err != nil {
		return 0, err
	}
	if is.Name != store || is.ShelfID != id {
		return 0, errors.New("the database is another one: it does not say that it is this shelf of this store")
	}
	return BytesOf(ctx, db)
}

func closePool(db *gorm.DB) {
	if pool, err := db.DB(); err == nil {
		pool.Close()
	}
}

// BytesOf returns how many bytes the tables of a shelf have.
func BytesOf(ctx context.Context, db *gorm.DB) (bytes int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	err = db.WithContext(ctx).Raw("SELECT COALESCE(SUM(data_length + index_length), 0) FROM information_schema.tables WHERE table_schema = DATABASE()").Scan(&bytes).Error
	return bytes, err
}

// Row returns what is said of the shelf.
func (of *Shelf) Row() model.Shelf {
	of.mu.Lock()
	defer of.mu.Unlock()
	return of.row
}

// Name returns its name.
func (of *Shelf) Name() string { return of.Row().Name }

// Used returns how many bytes its tables have, as of a moment ago.
func (of *Shelf) Used() int64 {
	of.mu.Lock()
	defer of.mu.Unlock()
	return of.used
}

// Away says that a shelf does not answer.
type Away struct {
	Shelf string
	Why   error
}

func (e *Away) Error() string { return "shelf " + e.Shelf + " is away: " + e.Why.Error() }
func (e *Away) Unwrap() error { return e.Why }

// DB returns the database of the shelf. The error is an [Away].
func (of *Shelf) DB(ctx context.Context) (*gorm.DB, error) {
	of.mu.Lock()
	defer of.mu.Unlock()
	if of.db == nil {
		return nil, &Away{of.row.Name, of.away}
	}
	return of.db.WithContext(ctx), nil
}
