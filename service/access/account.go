package access

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"time"

	"golang.org/x/crypto/bcrypt"
	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// MinPassword and MaxPassword bound a password, in bytes; the hash takes no more.
const (
	MinPassword = 8
	MaxPassword = 72
)

// sessionTime is how long a sign-in lasts.
const sessionTime = 12 * time.Hour

// ErrExists says that there is an account of that name already.
var ErrExists = errors.New("there is an account of that name already")

// AddAccount makes an account.
func AddAccount(db *gorm.DB, name, role, password string) error {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return err
	}
	err = db.Create(&model.Account{Name: name, Role: role, Password: hash, Created: time.Now()}).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		err = ErrExists
	}
	return err
}

// ErrWrong says that a name and a password do not belong together.
var ErrWrong = errors.New("the name or the password is wrong")

// SignIn checks a password and returns the key of a new session. Address is where
// the try comes from. The error is [ErrWrong], or [ErrTooOften] where the account or
// the address has failed too often; then the password is not looked at.
func SignIn(ctx context.Context, db *gorm.DB, name, password, address string) (key string, account model.Account, err error) {
	db = db.WithContext(ctx)
	err = db.Where("name = ?", name).Take(&account).Error
	known := err == nil
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return "", account, err
	}
	hash := account.Password
	if !known {
		hash = []byte(noPassword)
	}
	who := cmp.Or(account.Name, name) // as the database spells it; unknown names are counted alike, so that nobody learns which there are
	if err := mayTry(db, who, address); err != nil {
		return "", account, err
	}
	fits, err := isPassword(ctx, hash, password)
	if err != nil {
		return "", account, err
	}
	if !fits || !known {
		return "", account, ErrWrong
	}
	if err := forgetTries(db, account.Name, address); err != nil {
		return "", account, err
	}
	random := make([]byte, 32)
	rand.Read(random)
	key = base64.RawURLEncoding.EncodeToString(random)
	sum := sha256.Sum256([]byte(key))
	db.Where("ends < ?", time.Now()).Delete(&model.Session{})
	return key, account, db.Create(&model.Session{Hash: sum[:], AccountID: account.ID, Ends: time.Now().Add(sessionTime)}).Error
}

// noPassword is the hash of nobody's password, so that unknown names take as long.
const noPassword = "$2a$10$7EqJtq98hPqEX7fNZaFWoOHiY1cQ9nZbqF9bVnTnqf8S6rVfQp7Yu"

// Session returns the account whose session has the key.
func Session(db *gorm.DB, key string) (account model.Account, err error) {
	sum := sha256.Sum256([]byte(key))
	err = db.Joins("JOIN sessions ON sessions.account_id = accounts.id").Where("sessions.hash = ? AND sessions.ends > ?", sum[:], time.Now()).Take(&account).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrUnknown
	}
	return account, err
}

// SignOut ends a session.
func SignOut(db *gorm.DB, key string) error {
	sum := sha256.Sum256([]byte(key))
	return db.Where("hash = ?", sum[:]).Delete(&model.Session{}).Error
}
