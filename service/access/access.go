// Package access decides who may do what: it makes tokens and recognises them.
package access

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"time"

	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// EveryCask is the name that stands for all casks in a token.
const EveryCask = "*"

// NewToken makes a token for a cask, which it makes where it is new, and
// returns it. It is not kept and cannot be shown again.
func NewToken(db *gorm.DB, cask, may, label string) (string, error) {
	t := model.Token{May: may, Label: label, Created: time.Now()}
	if cask != EveryCask {
		c, err := model.CaskNamed(db, cask)
		if err != nil {
			return "", err
		}
		t.CaskID = &c.ID
	}
	random := make([]byte, 32)
	rand.Read(random)
	token := "ob_" + base64.RawURLEncoding.EncodeToString(random)
	hash := sha256.Sum256([]byte(token))
	t.Hash = hash[:]
	return token, db.Create(&t).Error
}

// ErrUnknown says that a token is not one of ours.
var ErrUnknown = errors.New("the token is not known")

// Find returns the token that the text stands for.
func Find(db *gorm.DB, token string) (t model.Token, err error) {
	hash := sha256.Sum256([]byte(token))
	err = db.Where("hash = ?", hash[:]).Take(&t).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrUnknown
	}
	return t, err
}
