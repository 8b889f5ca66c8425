package access

import (
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

var (
	// ErrWaits says that an agent is not let in yet.
	ErrWaits = errors.New("this agent brings the token of another one, and waits to be let in")
	// ErrNotWaiting says that no agent of an id waits to be let in.
	ErrNotWaiting = errors.New("no agent with this id waits to be let in")
)

// mostWaiting bounds how many agents may wait with one token: it may be stolen.
const mostWaiting = 100

// Join gives an agent that brings the token of another one a token of its own: where
// somebody has let it in, or where the invitation of the other one was for several.
// Until then the error is [ErrWaits].
func Join(db *gorm.DB, brought uint64, agentID, host string) (token string, cask, label string, err error) {
	waits := false
	err = model.Transact(db, func(tx *gorm.DB) error {
		waits = false
		var t model.Token
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&t, brought).Error; err != nil {
			return err
		}
		in, err := isLetIn(tx, t, agentID, host)
		if err != nil || !in {
			waits = err == nil
			return err
		}
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&model.Identity{AgentID: agentID, Since: time.Now()}).Error; err != nil {
			return err
		}
		if err := tx.Where("agent_id = ?", agentID).Delete(&model.Token{}).Error; err != nil { // one whose answer was lost
			return err
		}
		if label = t.Label; t.CaskID != nil {
			var c model.Cask
			if err := tx.Take(&c, *t.CaskID).Error; err != nil {
				return err
			}
			cask = c.Name
		}
		token, err = create(tx, model.Token{CaskID: t.CaskID, May: Write, Label: label, AgentID: agentID, InvitationID: t.InvitationID})
		return err
	})
	if err == nil && waits {
		err = ErrWaits
	}
	return token, cask, label, err
}

// isLetIn tells whether an agent may come in with the token of another one, and
// keeps that it waits where it may not.
func isLetIn(tx *gorm.DB, t model.Token, agentID, host string) (bool, error) {
	if replaced, err := mayReplace(tx, t, agentID, host); err != nil || replaced {
		return replaced, err
	}
	var j model.Joining
	err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&j, "agent_id = ?", agentID).Error
	switch {
	case err == nil && j.TokenID != t.ID:
		return false, waitAnew(tx, j, t.ID)
	case err == nil && j.Approved != nil:
		return true, nil
	case err != nil && !errors.Is(err, gorm.ErrRecordNotFound):
		return false, err
	}
	known := err == nil
	now := time.Now()
	if t.InvitationID != nil {
		used := tx.Model(&model.Invitation{}).Where("id = ? AND times < uses AND ends > ?", *t.InvitationID, now).Updates(map[string]any{"times": gorm.Expr("times + 1"), "used": now, "agent_id": agentID})
		if used.Error != nil {
			return false, used.Error
		}
		if used.RowsAffected > 0 {
			j = model.Joining{AgentID: agentID, TokenID: t.ID, Host: host, Since: now, Approved: &now}
			return true, tx.Save(&j).Error
		}
	}
	if known {
		return false, nil
	}
	if has, err := isKnown(tx, agentID); err != nil {
		return false, err
	} else if has {
		return false, ErrKnown
	}
	var waiting int64
	if err := tx.Model(&model.Joining{}).Where("token_id = ? AND approved IS NULL", t.ID).Count(&waiting).Error; err != nil || waiting >= mostWaiting {
		return false, err
	}
	return false, tx.Create(&model.Joining{AgentID: agentID, TokenID: t.ID, Host: host, Since: now}).Error
}

// mayReplace lets an agent in that an admin lets come with another token, as its folder
// was set back to one from before it had its own.
func mayReplace(tx *gorm.DB, t model.Token, agentID, host string) (bool, error) {
	now := time.Now()
	used := tx.Model(&model.Identity{}).Where("agent_id = ? AND `replace` > ?", agentID, now).Update("replace", nil)
	if used.Error != nil || used.RowsAffected == 0 {
		return false, used.Error
	}
	return true, tx.Save(&model.Joining{AgentID: agentID, TokenID: t.ID, Host: host, Since: now, Approved: &now}).Error
}

// waitAnew has an agent wait that came with another token before, which was taken away
// since. It has to be let in once more: who brings this one may be somebody else.
func waitAnew(tx *gorm.DB, j model.Joining, token uint64) error {
	var there int64
	if err := tx.Model(&model.Token{}).Where("id = ?", j.TokenID).Count(&there).Error; err != nil {
		return err
	}
	known, err := isKnown(tx, j.AgentID)
	if err != nil {
		return err
	}
	if there > 0 || known {
		return ErrKnown
	}
	j.TokenID, j.Approved, j.Since = token, nil, time.Now()
	return tx.Save(&j).Error
}

// isKnown tells whether an agent has come with a token of its own.
func isKnown(tx *gorm.DB, agentID string) (bool, error) {
	var identities int64
	err := tx.Model(&model.Identity{}).Where("agent_id = ?", agentID).Count(&identities).Error
	return identities > 0, err
}

// Adopt lets an agent in that waits. The error is [ErrNotWaiting] where none does.
func Adopt(db *gorm.DB, agentID string) error {
	done := db.Model(&model.Joining{}).Where("agent_id = ? AND approved IS NULL", agentID).Update("approved", time.Now())
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotWaiting
	}
	return done.Error
}

// Joinings returns the agents that wait to be let in, the oldest first.
func Joinings(db *gorm.DB) ([]client.Joining, error) {
	waiting := []client.Joining{}
	err := db.Model(&model.Joining{}).Select("joinings.agent_id, joinings.host, tokens.agent_id AS was, tokens.label AS sender, joinings.since").
		Joins("JOIN tokens ON tokens.id = joinings.token_id").Where("joinings.approved IS NULL").Order("joinings.since").Scan(&waiting).Error
	return waiting, err
}
