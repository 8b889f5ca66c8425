// Package access decides who may do what. It makes tokens, accounts and sessions,
// recognises them again by hashes alone, and slows down who guesses.
//
// All that it knows stands in the database, so that several services may stand before
// it, and any of its functions may be called by several goroutines at a time. [Find]
// recognises a token, [Session] a sign-in, and [Visitor] says what each may do.
package access

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// EveryCask is the name that stands for all casks in a token.
const EveryCask = "*"

// NewToken makes a token for a cask, which it makes where it is new, and
// returns it. It is not kept and cannot be shown again.
func NewToken(db *gorm.DB, cask, may, label string) (string, error) {
	t := model.Token{May: may, Label: label}
	if cask != EveryCask {
		c, err := model.CaskNamed(db, cask)
		if err != nil {
			return "", err
		}
		t.CaskID = &c.ID
	}
	return create(db, t)
}

func create(db *gorm.DB, t model.Token) (string, error) {
	text, hash := secret("ob_")
	t.Hash, t.Created = hash, time.Now()
	return text, db.Create(&t).Error
}

// secret returns a random text that nobody can guess, and its hash.
func secret(prefix string) (text string, hash []byte) {
	random := make([]byte, 32)
	rand.Read(random)
	text = prefix + base64.RawURLEncoding.EncodeToString(random)
	return text, hashOf(text)
}

func hashOf(text string) []byte {
	hash := sha256.Sum256([]byte(text))
	return hash[:]
}

// ErrUnknown says that a token is not one of ours.
var ErrUnknown = errors.New("the token is not known")

// Find returns the token that the text stands for.
func Find(db *gorm.DB, token string) (t model.Token, err error) {
	err = db.Where("hash = ?", hashOf(token)).Take(&t).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return t, ErrUnknown
	}
	if now := time.Now(); err == nil && (t.Used == nil || now.Sub(*t.Used) > usedTime) {
		db.Model(&t).UpdateColumn("used", now) // a store that can only be read is read all the same
	}
	return t, err
}

// usedTime is how exactly it is kept when a token was used last.
const usedTime = time.Minute

// Tokens returns the tokens that there are, the oldest first.
func Tokens(db *gorm.DB) ([]client.GivenToken, error) {
	var rows []struct {
		model.Token
		Cask, Host string
	}
	err := db.Model(&model.Token{}).Select("tokens.*, casks.name AS cask, agents.host AS host").
		Joins("LEFT JOIN casks ON casks.id = tokens.cask_id").Joins("LEFT JOIN agents ON agents.id = tokens.agent_id").
		Order("tokens.id").Scan(&rows).Error
	tokens := []client.GivenToken{}
	for _, t := range rows {
		tokens = append(tokens, client.GivenToken{ID: t.ID, Cask: cmp.Or(t.Cask, EveryCask), May: t.May, Label: t.Label, AgentID: t.AgentID, Host: t.Host, Created: t.Created, Used: t.Used})
	}
	return tokens, err
}

// RevokeToken takes a token away, from the next request on in every service.
// The error is [ErrUnknown] where there is none with this id.
func RevokeToken(db *gorm.DB, id uint64) error {
	done := db.Delete(&model.Token{}, id)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrUnknown
	}
	return done.Error
}
