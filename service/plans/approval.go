package plans

import (
	"errors"
	"fmt"
	"strconv"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// Person is who changes something.
type Person struct {
	Name  string // as people know it
	Owner string // as nobody else is named
	Admin bool
}

// asks returns the first assignment that is met by a host and asks for approval, also
// where another one decides: else a more exact one would pass it by.
func (w *world) asks(a model.Agent) string {
	for i := range w.assignments {
		if as := &w.assignments[i]; w.approve[as.Name] {
			if met, _ := as.When.Match(a.Host, w.labels[a.ID]); met {
				return as.Name
			}
		}
	}
	return ""
}

// needsApproval tells whether a roll-out of a plan to some agents is to be approved.
func (w *world) needsApproval(plan string, hosts []model.RolloutHost) bool {
	to := map[string]bool{}
	for _, h := range hosts {
		to[h.AgentID] = true
	}
	for _, as := range w.assignments {
		if as.Plan == plan && w.approve[as.Name] {
			return true
		}
	}
	for _, a := range w.agents {
		if to[a.ID] && w.asks(a) != "" {
			return true
		}
	}
	return false
}

// mayChange refuses what would pass by the approval that an assignment asks for.
func mayChange(who Person, what, assignment string) error {
	if who.Admin || assignment == "" {
		return nil
	}
	return &Refusal{What: fmt.Sprintf("%s is for an admin to change: assignment %s asks that changes are approved", what, assignment), Mend: "ask an admin", Forbidden: true}
}

// mayChangeAssignment is mayChange for the assignment of a name, where there is one.
func mayChangeAssignment(tx *gorm.DB, who Person, name string) error {
	var old model.Assignment
	err := tx.Take(&old, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) || err == nil && !old.Approve {
		return nil
	}
	if err != nil {
		return err
	}
	return mayChange(who, "it", name)
}

// mayChangeHost is mayChange for labels and values of a host: they say which plan it
// gets, and what that does there.
func mayChangeHost(tx *gorm.DB, who Person, agentID string) error {
	w, err := look(tx, tx.Model(&model.Agent{}).Where("id = ?", agentID))
	if err != nil || len(w.agents) == 0 {
		return err
	}
	return mayChange(who, "host "+strconv.Quote(w.agents[0].Host), w.asks(w.agents[0]))
}

// mayChangeLabel is mayChange for the values of all hosts with a label.
func mayChangeLabel(tx *gorm.DB, who Person, v client.ValueOfLabel) error {
	if who.Admin {
		return nil
	}
	w, err := look(tx, nil)
	if err != nil {
		return err
	}
	for _, a := range w.agents {
		if w.labels[a.ID][v.Label] != v.Of {
			continue
		}
		if err := mayChange(who, fmt.Sprintf("a value of %s=%s", v.Label, v.Of), w.asks(a)); err != nil {
			return err
		}
	}
	return nil
}

// mayApprove refuses that who has proposed a roll-out approves it.
func mayApprove(row *model.Rollout, who Person) error {
	if row.Owner != who.Owner {
		return nil
	}
	return refuse("another operator, or an admin, has it go on: oakbarrel rollout go-on", "%s has proposed roll-out %d, and cannot approve it", who.Name, row.ID)
}

// isFree tells whether a new host may get what is in force by itself: what was approved
// by the assignments that it meets.
func (w *world) isFree(a model.Agent, assignment string) bool {
	return w.approve[assignment] || w.asks(a) == ""
}
