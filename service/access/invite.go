package access

import (
	"cmp"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// ErrInvitation says that a code is none that can be used.
var ErrInvitation = errors.New("the invitation is not known, was used, or has ended")

// Invite makes a code with which so many agents as uses says may each get a token
// for a cask, which is made where it is new, until a time.
func Invite(db *gorm.DB, i client.Invite, by string, ends time.Time) (code string, err error) {
	c, err := model.CaskNamed(db, i.Cask)
	if err != nil {
		return "", err
	}
	labels, err := json.Marshal(i.Labels)
	if err != nil {
		return "", err
	}
	code, hash := secret("")
	return code, db.Create(&model.Invitation{Hash: hash, CaskID: c.ID, Label: i.Label, Labels: string(labels), By: by, Uses: i.Uses, Ends: ends}).Error
}

// giveLabels gives a host the labels of its invitation.
func giveLabels(tx *gorm.DB, i model.Invitation, agentID string) error {
	var labels map[string]string
	json.Unmarshal([]byte(i.Labels), &labels) // Invite wrote it
	for name, value := range labels {
		row := model.HostLabel{AgentID: agentID, Name: name, Value: value}
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
			return err
		}
	}
	return nil
}

// Accept uses a code, and makes a token that only the agent may use. Without a
// label in the invitation it has the name of the host. An agent that is known is
// given one only in the place of the token that it has, which is proof, or where an
// admin has ordered it: else the error is [ErrKnown].
func Accept(db *gorm.DB, code, agentID, host, proof string) (token string, cask model.Cask, label string, err error) {
	err = model.Transact(db, func(tx *gorm.DB) error {
		var i model.Invitation
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("hash = ? AND times < uses AND ends > ?", hashOf(code), time.Now()).Take(&i).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrInvitation
		}
		if err != nil {
			return err
		}
		if err := tx.Take(&cask, i.CaskID).Error; err != nil {
			return err
		}
		if err := admitToken(tx, agentID, hashOf(proof)); err != nil {
			return err
		}
		if err := giveLabels(tx, i, agentID); err != nil {
			return err
		}
		now := time.Now()
		if err := tx.Model(&i).Updates(model.Invitation{Used: &now, Times: i.Times + 1, AgentID: agentID}).Error; err != nil {
			return err
		}
		label = cmp.Or(i.Label, host)
		token, err = create(tx, model.Token{CaskID: &cask.ID, May: Write, Label: label, AgentID: agentID, InvitationID: &i.ID})
		return err
	})
	return token, cask, label, err
}

// Revoke takes the tokens of an agent away, and returns how many there were.
func Revoke(db *gorm.DB, agentID string) (int64, error) {
	done := db.Where("agent_id = ?", agentID).Delete(&model.Token{})
	return done.RowsAffected, done.Error
}

// Invitations returns those that were made, the newest first, at most as many as most.
func Invitations(db *gorm.DB, most int) ([]client.SentInvitation, error) {
	invitations := []client.SentInvitation{}
	err := db.Model(&model.Invitation{}).Select("casks.name AS cask, invitations.label, invitations.by, invitations.ends, invitations.uses, invitations.times, invitations.used, invitations.agent_id").
		Joins("LEFT JOIN casks ON casks.id = invitations.cask_id").Order("invitations.id DESC").Limit(most).Scan(&invitations).Error
	return invitations, err
}
