package access

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"sync"
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

// ErrTooOften says that a name was tried with wrong passwords too often.
var ErrTooOften = errors.New("too many wrong passwords; try again in a minute")

// Door lets people in who know their password. After a few wrong ones a name
// has to wait. The zero Door is ready. It may be used by several goroutines at a time.
type Door struct {
	mu    sync.Mutex
	wrong map[string][]time.Time
}

const (
	mostWrong  = 5
	wrongSpan  = time.Minute
	mostNames  = 10_000
	noPassword = "$2a$10$7EqJtq98hPqEX7fNZaFWoOHiY1cQ9nZbqF9bVnTnqf8S6rVfQp7Yu" // of nobody, so that unknown names take as long
)

// SignIn checks a password and returns the key of a new session.
func (d *Door) SignIn(db *gorm.DB, name, password string) (key string, account model.Account, err error) {
	if d.tooOften(name) {
		return "", account, ErrTooOften
	}
	err = db.Where("name = ?", name).Take(&account).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return "", account, err
	}
	hash := account.Password
	if err != nil {
		hash = []byte(noPassword)
	}
	if bcrypt.CompareHashAndPassword(hash, []byte(password)) != nil || err != nil {
		d.countFailure(name)
		return "", account, ErrWrong
	}
	random := make([]byte, 32)
	rand.Read(random)
	key = base64.RawURLEncoding.EncodeToString(random)
	sum := sha256.Sum256([]byte(key))
	db.Where("ends < ?", time.Now()).Delete(&model.Session{})
	return key, account, db.Create(&model.Session{Hash: sum[:], AccountID: account.ID, Ends: time.Now().Add(sessionTime)}).Error
}

func (d *Door) tooOften(name string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	recent := d.wrong[name][:0]
	for _, at := range d.wrong[name] {
		if time.Since(at) < wrongSpan {
			recent = append(recent, at)
		}
	}
	if len(recent) == 0 {
		delete(d.wrong, name)
		return false
	}
	d.wrong[name] = recent
	return len(recent) >= mostWrong
}

func (d *Door) countFailure(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.wrong == nil || len(d.wrong) >= mostNames {
		d.wrong = map[string][]time.Time{}
	}
	d.wrong[name] = append(d.wrong[name], time.Now())
}

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
