package model

import (
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Lease is the right of one service, of those before a database, to do a job: a row with
// its holder, until a time of the database's clock. Unlike a lock of the server it holds on
// every node of a cluster, and goes by itself where its holder is gone.
type Lease struct {
	Job    string
	Holder string // tells this service apart from others
	For    time.Duration
}

// Take takes the lease, or keeps it, and tells whether it is this service's.
func (l Lease) Take(db *gorm.DB) (mine bool, err error) {
	if err := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&Job{Name: l.Job, Until: time.Unix(1, 0)}).Error; err != nil {
		return false, err
	}
	err = Transact(db, func(tx *gorm.DB) error {
		return tx.Model(&Job{}).Where("name = ? AND (until < UTC_TIMESTAMP() OR holder = ?)", l.Job, l.Holder).
			Updates(map[string]any{"holder": l.Holder, "until": gorm.Expr("UTC_TIMESTAMP() + INTERVAL ? SECOND", int(l.For.Seconds()))}).Error
	})
	if err != nil {
		return false, err
	}
	var job Job
	err = db.Take(&job, "name = ?", l.Job).Error
	return job.Holder == l.Holder, err
}

// Leave gives the lease back, where it is this service's.
func (l Lease) Leave(db *gorm.DB) error {
	return db.Model(&Job{}).Where("name = ? AND holder = ?", l.Job, l.Holder).Update("until", time.Unix(1, 0)).Error
}

// ErrNotMine says that another service has the lease by now.
var ErrNotMine = errors.New("another service has taken the work over")

// Keep keeps the lease within a transaction, whose changes hold only where it is still this
// service's: else the error is ErrNotMine.
func (l Lease) Keep(tx *gorm.DB) error {
	var rows []Job
	if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ? AND holder = ? AND until > UTC_TIMESTAMP()", l.Job, l.Holder).Find(&rows).Error; err != nil {
		return err
	}
	if len(rows) == 0 {
		return ErrNotMine
	}
	return tx.Model(&Job{}).Where("name = ?", l.Job).Update("until", gorm.Expr("UTC_TIMESTAMP() + INTERVAL ? SECOND", int(l.For.Seconds()))).Error
}

// Change is a transaction that holds only where the lease is still this service's, and is tried
// again where it meets another one.
func (l Lease) Change(db *gorm.DB, do func(tx *gorm.DB) error) error {
	return Transact(db, func(tx *gorm.DB) error {
		if err := l.Keep(tx); err != nil {
			return err
		}
		return do(tx)
	})
}
