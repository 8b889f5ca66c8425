package access

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"golang.org/x/crypto/bcrypt"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// ErrNoAccount says that there is no account of that name.
var ErrNoAccount = errors.New("there is no account of that name")

// ErrLastAdmin says that nobody could give rights any more.
var ErrLastAdmin = errors.New("it is the only account that is admin; make another one first")

// Accounts returns the accounts that there are, by name.
func Accounts(db *gorm.DB) ([]client.GivenAccount, error) {
	accounts := []client.GivenAccount{}
	err := db.Model(&model.Account{}).Select("accounts.name, accounts.role, accounts.created, COUNT(sessions.hash) AS sessions").
		Joins("LEFT JOIN sessions ON sessions.account_id = accounts.id AND sessions.ends > ?", time.Now()).
		Group("accounts.id").Order("accounts.name").Scan(&accounts).Error
	return accounts, err
}

// SetAccount gives an account another role and another password, where they are
// not "". The role holds from its next request on; with another password all of its
// sessions end, but for the one with the key except.
func SetAccount(db *gorm.DB, name, role, password, except string) error {
	var hash []byte
	if password != "" {
		var err error
		if hash, err = bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost); err != nil {
			return err
		}
	}
	return changeAccount(db, name, func(tx *gorm.DB, a model.Account) error {
		if role != "" && role != Admin {
			if err := notTheLast(tx, a); err != nil {
				return err
			}
		}
		if err := tx.Model(&a).Updates(model.Account{Role: role, Password: hash}).Error; err != nil || hash == nil {
			return err
		}
		sum := sha256.Sum256([]byte(except))
		return tx.Where("account_id = ? AND hash <> ?", a.ID, sum[:]).Delete(&model.Session{}).Error
	})
}

// RemoveAccount removes an account, and ends its sessions.
func RemoveAccount(db *gorm.DB, name string) error {
	return changeAccount(db, name, func(tx *gorm.DB, a model.Account) error {
		if err := notTheLast(tx, a); err != nil {
			return err
		}
		if err := tx.Where("account_id = ?", a.ID).Delete(&model.Session{}).Error; err != nil {
			return err
		}
		return tx.Delete(&a).Error
	})
}

// changeAccount does something with an account. All who are admin are locked
// meanwhile, so that of two that are removed side by side one stays.
func changeAccount(db *gorm.DB, name string, do func(tx *gorm.DB, a model.Account) error) error {
	return db.Transaction(func(tx *gorm.DB) error {
		var locked []model.Account
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("role = ? OR name = ?", Admin, name).Order("id").Find(&locked).Error; err != nil {
			return err
		}
		for _, a := range locked {
			if a.Name == name {
				return do(tx, a)
			}
		}
		return ErrNoAccount
	})
}

func notTheLast(tx *gorm.DB, a model.Account) error {
	if a.Role != Admin {
		return nil
	}
	var others int64
	err := tx.Model(&model.Account{}).Where("role = ? AND id <> ?", Admin, a.ID).Count(&others).Error
	if err == nil && others == 0 {
		err = ErrLastAdmin
	}
	return err
}

// ChangePassword gives who is signed in another password, and ends the other
// sessions of the account. The error is [ErrWrong] where the old one is not right.
func ChangePassword(ctx context.Context, db *gorm.DB, name, old, password, key, address string) error {
	db = db.WithContext(ctx)
	var a model.Account
	if err := db.Where("name = ?", name).Take(&a).Error; err != nil {
		return err
	}
	if err := mayTry(db, a.Name, address); err != nil {
		return err
	}
	switch fits, err := isPassword(ctx, a.Password, old); {
	case err != nil:
		return err
	case !fits:
		return ErrWrong
	}
	if err := forgetTries(db, a.Name, address); err != nil {
		return err
	}
	return SetAccount(db, name, "", password, key)
}
