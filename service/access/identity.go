package access

import (
	"bytes"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/service/model"
)

var (
	// ErrOther says that a token is that of another agent.
	ErrOther = errors.New("the token is that of another agent")
	// ErrKnown says that an agent has a token of its own, or had one, and that this is another.
	ErrKnown = errors.New("the agent has, or had, a token of its own, and this is another")
	// ErrNoIdentity says that no agent of an id has come with a token.
	ErrNoIdentity = errors.New("no agent with this id has come with a token")
)

// Bind makes an agent the only one that a token for writing serves: the first that
// it is used for. It tells whether it was not before. The error is [ErrOther] where that was another one, and [ErrKnown]
// where the agent is served with another token.
func Bind(db *gorm.DB, token uint64, agentID string) (bound bool, err error) {
	err = model.Transact(db, func(tx *gorm.DB) error {
		bound = false
		var t model.Token
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&t, token).Error; err != nil {
			return err
		}
		switch t.AgentID {
		case agentID: // by a request beside this one
			return nil
		case "":
		default:
			return ErrOther
		}
		if err := admitToken(tx, agentID, nil); err != nil {
			return err
		}
		bound = true
		return tx.Model(&t).Update("agent_id", agentID).Error
	})
	return bound, err
}

// admitToken lets an agent have another token: a new one, one that brings the hash
// of the token that it has, and one whose token an admin has let be replaced. The
// old token goes.
func admitToken(tx *gorm.DB, agentID string, proof []byte) error {
	now := time.Now()
	made := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&model.Identity{AgentID: agentID, Since: now})
	if made.Error != nil || made.RowsAffected > 0 {
		return made.Error
	}
	var identity model.Identity
	if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&identity, "agent_id = ?", agentID).Error; err != nil {
		return err
	}
	var has []model.Token
	if err := tx.Where("agent_id = ?", agentID).Find(&has).Error; err != nil {
		return err
	}
	allowed := identity.Replace != nil && identity.Replace.After(now)
	for _, t := range has {
		allowed = allowed || bytes.Equal(t.Hash, proof)
	}
	if !allowed {
		return ErrKnown
	}
	if err := tx.Model(&identity).Update("replace", nil).Error; err != nil {
		return err
	}
	return tx.Where("agent_id = ?", agentID).Delete(&model.Token{}).Error
}

// Replace lets an agent come with another token until a time; the one that it has
// goes then. One that waits to be let in waits anew with what it brings next. The error
// is [ErrNoIdentity] where there is no such agent.
func Replace(db *gorm.DB, agentID string, until time.Time) error {
	return model.Transact(db, func(tx *gorm.DB) error {
		known, err := isKnown(tx, agentID)
		if err != nil {
			return err
		}
		if known {
			return tx.Model(&model.Identity{}).Where("agent_id = ?", agentID).Update("replace", until).Error
		}
		waited := tx.Where("agent_id = ?", agentID).Delete(&model.Joining{})
		if waited.Error == nil && waited.RowsAffected == 0 {
			return ErrNoIdentity
		}
		return waited.Error
	})
}
