package alerts

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// How many of those that a notice is about are shown of one alone, and in a list.
const (
	mostShown   = 100
	shownInList = 5
)

// Notices lists notices that are in one of some states, none for all, the newest first; cask is
// the only one, nil for every one.
func (b *Book) Notices(ctx context.Context, states []string, cask *uint64, limit int) ([]client.Notice, error) {
	db := b.DB.WithContext(ctx).Order("id DESC").Limit(limit)
	if len(states) > 0 {
		db = db.Where("state IN ?", states)
	}
	if cask != nil {
		db = db.Where("cask_id = ?", *cask)
	}
	var rows []model.Notice
	if err := db.Find(&rows).Error; err != nil {
		return nil, err
	}
	return b.valuesOf(ctx, rows, shownInList)
}

func (b *Book) caskNames(ctx context.Context) (map[uint64]string, error) {
	var rows []model.Cask
	err := b.DB.WithContext(ctx).Select("id", "name").Find(&rows).Error
	names := map[uint64]string{}
	for _, c := range rows {
		names[c.ID] = c.Name
	}
	return names, err
}

func unknownNotice(id uint64) error {
	return &Refusal{What: fmt.Sprintf("there is no notice %d", id), Mend: "oakbarrel notice list tells those that there are", Unknown: true}
}

// Notice returns one notice, with how it was sent; cask is the only one that it may be of.
func (b *Book) Notice(ctx context.Context, id uint64, cask *uint64) (n client.Notice, err error) {
	db := b.DB.WithContext(ctx)
	var rows []model.Notice
	if err := db.Where("id = ?", id).Find(&rows).Error; err != nil {
		return n, err
	}
	if len(rows) == 0 || cask != nil && (rows[0].CaskID == nil || *rows[0].CaskID != *cask) {
		return n, unknownNotice(id)
	}
	values, err := b.valuesOf(ctx, rows, mostShown)
	if err != nil {
		return n, err
	}
	n = values[0]
	var sent []model.Delivery
	if err := db.Where("notice_id = ?", id).Order("id DESC").Limit(mostShown).Find(&sent).Error; err != nil {
		return n, err
	}
	for _, d := range sent {
		n.Sent = append(n.Sent, client.Delivery{Receiver: d.Receiver, Created: d.Created, Done: d.Done, Tries: d.Tries, Trouble: d.Trouble, GivenUp: d.Given})
	}
	return n, nil
}

// placedWho is one whom a notice is about, with its place among all of them.
type placedWho struct {
	model.NoticeWho
	Place, Among int
}

// valuesOf tells of notices, and of so many at most whom each is about.
func (b *Book) valuesOf(ctx context.Context, rows []model.Notice, most int) ([]client.Notice, error) {
	casks, err := b.caskNames(ctx)
	if err != nil {
		return nil, err
	}
	var ids []uint64
	for _, r := range rows {
		ids = append(ids, r.ID)
	}
	db := b.DB.WithContext(ctx)
	placed := db.Model(&model.NoticeWho{}).Where("notice_id IN ?", ids).
		Select("*, ROW_NUMBER() OVER (PARTITION BY notice_id ORDER BY holds DESC, since, who) AS place, COUNT(*) OVER (PARTITION BY notice_id) AS among")
	var found []placedWho
	if err := db.Table("(?) AS placed", placed).Where("place <= ?", most).Order("notice_id, place").Find(&found).Error; err != nil {
		return nil, err
	}
	about, of := map[uint64][]model.NoticeWho{}, map[uint64]int{}
	for _, w := range found {
		about[w.NoticeID], of[w.NoticeID] = append(about[w.NoticeID], w.NoticeWho), w.Among
	}
	all := []client.Notice{}
	for _, r := range rows {
		n := valueOfNotice(r, about[r.ID], of[r.ID])
		if r.CaskID != nil {
			n.Cask = casks[*r.CaskID]
		}
		all = append(all, n)
	}
	return all, nil
}

func valueOfNotice(row model.Notice, about []model.NoticeWho, of int) client.Notice {
	n := client.Notice{ID: row.ID, Alert: row.Alert, State: row.State, Note: row.Note, Since: time.UnixMicro(row.Since).UTC(), Until: time.UnixMicro(row.Until).UTC(), Holds: row.Holds, Times: row.Times,
		Told: row.Told, ToldAt: row.ToldAt, Pending: row.Pending, Muted: row.Muted, By: row.By, Why: row.Why, Created: row.Created, Changed: row.Changed, About: []client.NoticeWho{}, Sent: []client.Delivery{}}
	if n.Muted != nil && !n.Muted.After(time.Now()) {
		n.Muted = nil
	}
	for _, w := range about {
		n.About = append(n.About, client.NoticeWho{Who: harmless(w.Who), Line: w.Line, Where: w.Where, Since: time.UnixMicro(w.Since).UTC(), Until: time.UnixMicro(w.Until).UTC(), Holds: w.Holds, Times: w.Times})
	}
	n.Of, n.Title = of, titleOf(row.Alert, about, of)
	return n
}

// Steer does about a notice what somebody wants.
func (b *Book) Steer(ctx context.Context, id uint64, s client.SteerNotice, by string) (client.Notice, error) {
	err := model.Transact(b.DB.WithContext(ctx), func(tx *gorm.DB) error {
		var rows []model.Notice
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Find(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return unknownNotice(id)
		}
		n := &rows[0]
		if err := steer(n, s, by); err != nil {
			return err
		}
		if s.Do == "reopen" {
			var open int64
			if err := tx.Model(&model.Notice{}).Where("alert_id = ? AND state <> 'done' AND id <> ?", n.AlertID, n.ID).Count(&open).Error; err != nil {
				return err
			}
			if open > 0 {
				return &Refusal{What: "another notice of the alert is open", Mend: "look at that one", Conflict: true}
			}
		}
		n.Changed = time.Now()
		return tx.Save(n).Error
	})
	if err != nil {
		return client.Notice{}, err
	}
	return b.Notice(ctx, id, nil)
}

func steer(n *model.Notice, s client.SteerNotice, by string) error {
	if n.State == client.NoticeDone && s.Do != "reopen" {
		return &Refusal{What: fmt.Sprintf("notice %d is done: %s", n.ID, n.Why), Mend: fmt.Sprintf("oakbarrel notice reopen %d", n.ID), Conflict: true}
	}
	switch s.Do {
	case "take":
		n.State, n.By = client.NoticeSeen, by
	case "leave":
		n.State, n.By = client.NoticeTold, ""
	case "mute":
		n.Muted = nil
		if s.Minutes > 0 {
			until := time.Now().Add(time.Duration(s.Minutes) * time.Minute)
			n.Muted = &until
		}
	case "done":
		if s.Why == "" {
			return refuse("say it in a line, for who meets it next", "a notice is done with a reason")
		}
		n.State, n.Why, n.Pending = client.NoticeDone, s.Why, false
		if n.By == "" {
			n.By = by
		}
	case "reopen":
		if n.State != client.NoticeDone {
			return &Refusal{What: fmt.Sprintf("notice %d is not done", n.ID), Mend: "nothing is to be done", Conflict: true}
		}
		n.State, n.Why = client.NoticeTold, ""
		n.By = ""
	}
	return nil
}

// States reads states with commas between them.
func States(text string) (states []string, err error) {
	for _, s := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' }) {
		if !slices.Contains([]string{client.NoticeTold, client.NoticeSeen, client.NoticeDone}, s) {
			return nil, refuse("write told, seen, done, with commas between them", "state cannot be %q", s)
		}
		states = append(states, s)
	}
	return states, nil
}
