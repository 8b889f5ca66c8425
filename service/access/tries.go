package access

import (
	"context"
	"errors"
	"runtime"
	"time"

	"golang.org/x/crypto/bcrypt"
	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// ErrTooOften says that wrong passwords were tried too often.
var ErrTooOften = errors.New("too many wrong passwords; try again in a minute")

// Bounds of tries in a minute. They are counted in the database, so that several
// services count together, before a password is looked at, so that tries side by
// side are counted exactly, and taken back once one was right.
const (
	mostTries       = 5  // of one account
	mostFromAddress = 30 // of one address, whatever the names
	triesTime       = time.Minute
)

// mayTry counts a try for an account and for an address. The error is [ErrTooOften]
// where one of them has no try left.
func mayTry(db *gorm.DB, account, address string) error {
	if err := countTry(db, "address "+address, mostFromAddress); err != nil {
		return err
	}
	return countTry(db, "account "+account, mostTries)
}

// countTry counts a try of somebody, unless there are as many already.
func countTry(db *gorm.DB, who string, most int) error {
	now := time.Now()
	over := now.Add(-triesTime)
	return db.Transaction(func(tx *gorm.DB) error {
		err := tx.Exec("INSERT INTO tries (who, begun, count) VALUES (?, ?, 1) ON DUPLICATE KEY UPDATE count = IF(begun < ?, 1, LEAST(count + 1, ?)), begun = IF(begun < ?, ?, begun)",
			who, now, over, most+1, over, now).Error // which locks the row until the end
		if err != nil {
			return err
		}
		var t model.Try
		if err := tx.Take(&t, "who = ?", who).Error; err != nil {
			return err
		}
		if t.Count > most {
			return ErrTooOften
		}
		return nil
	})
}

// forgetTries takes back what was counted, once a password was right, and lets go
// of what is over.
func forgetTries(db *gorm.DB, account, address string) error {
	err := db.Delete(&model.Try{}, "who = ?", "account "+account).Error
	if err == nil {
		err = db.Exec("UPDATE tries SET count = count - 1 WHERE who = ? AND count > 0", "address "+address).Error
	}
	db.Exec("DELETE FROM tries WHERE begun < ? LIMIT 100", time.Now().Add(-triesTime)) // else the next one does it
	return err
}

// hashing lets few passwords be looked at at a time: each takes a core for a while,
// and the others wait, and not those who read.
var hashing = make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2))

// isPassword tells whether a password fits a hash. It waits until it may look.
func isPassword(ctx context.Context, hash []byte, password string) (bool, error) {
	select {
	case hashing <- struct{}{}:
		defer func() { <-hashing }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	return bcrypt.CompareHashAndPassword(hash, []byte(password)) == nil, nil
}
