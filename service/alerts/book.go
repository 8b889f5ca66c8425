package alerts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/alert"
	"oakbarrel/core/format"
	"oakbarrel/core/plan"
	"oakbarrel/service/model"
	"oakbarrel/service/refusal"
)

// Book keeps alerts, receivers and what was told. Its methods may be called by several
// goroutines, and services, at a time.
type Book struct {
	DB    *gorm.DB
	Watch *Watch // is told of changes; others find them soon
}

// Refusal is why something is not done.
type Refusal = refusal.Refusal

var refuse = refusal.Of

const (
	mostAlerts    = 500
	mostReceivers = 200
)

// reserved are no names of alerts: they are addresses of the service and of its console.
var reserved = []string{"new", "try"}

var isName = regexp.MustCompile(`^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$`)

// Parse reads the text of an alert; the error tells the first thing that is wrong.
func Parse(name, text string) (*alert.Alert, error) {
	if !isName.MatchString(name) || slices.Contains(reserved, name) {
		return nil, refuse("a name has letters, digits and - _ . and at most 64 of them, and is not "+strings.Join(reserved, " or "), "this cannot be the name of an alert")
	}
	a, findings := plan.ParseAlert(name, name+".yaml", []byte(text))
	if a == nil {
		i := slices.IndexFunc(findings, func(f plan.Finding) bool { return !f.Warning })
		f := findings[i]
		return nil, refuse(f.Mend, "%s:%d:%d: %s", f.File, f.Line, f.Column, f.What)
	}
	return a, nil
}

// Alerts lists the alerts of a cask, nil for those of all.
func (b *Book) Alerts(ctx context.Context, cask *string) ([]client.Alert, error) {
	db := b.DB.WithContext(ctx)
	var rows []model.Alert
	if err := db.Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	casks, err := casksByName(db)
	if err != nil {
		return nil, err
	}
	var receivers []string
	if err := db.Model(&model.Receiver{}).Pluck("name", &receivers).Error; err != nil {
		return nil, err
	}
	var counts []struct {
		AlertID uint64
		Holds   int
	}
	if err := db.Model(&model.AlertState{}).Select("alert_id, COUNT(*) AS holds").Where("holds = 1").Group("alert_id").Find(&counts).Error; err != nil {
		return nil, err
	}
	var notices []model.Notice
	if err := db.Select("id", "alert_id", "state", "told_at").Where("id IN (?)", db.Model(&model.Notice{}).Select("MAX(id)").Group("alert_id")).Find(&notices).Error; err != nil {
		return nil, err
	}
	all := []client.Alert{}
	for _, row := range rows {
		v := valueOf(row, casks, receivers)
		if cask != nil && v.Cask != *cask {
			continue
		}
		for _, c := range counts {
			if c.AlertID == row.ID {
				v.Holds = c.Holds
			}
		}
		for _, n := range notices {
			if n.AlertID != row.ID {
				continue
			}
			if v.Told = n.ToldAt; n.State != client.NoticeDone {
				v.Notice = n.ID
			}
		}
		all = append(all, v)
	}
	return all, nil
}

func valueOf(row model.Alert, casks map[string]uint64, receivers []string) client.Alert {
	v := client.Alert{Name: row.Name, Text: string(row.Text), Number: row.Number, Off: row.Off, By: row.By, Changed: row.Changed, Tell: []string{}}
	a, err := Parse(row.Name, v.Text)
	if err != nil {
		v.Trouble = err.Error()
		return v
	}
	v.Asks, v.Cask, v.Tell = a.String(), a.Cask, append(v.Tell, a.Tell...)
	if _, known := casks[a.Cask]; a.Cask != "" && !known {
		v.Trouble = "there is no cask " + a.Cask
	}
	for _, to := range a.Tell {
		if !slices.Contains(receivers, to) {
			v.Trouble = "there is no receiver " + to
		}
	}
	return v
}

// Put makes or changes an alert. What it knows of those that it looks at it forgets.
func (b *Book) Put(ctx context.Context, name string, p client.PutAlert, by string) (v client.Alert, err error) {
	a, err := Parse(name, p.Text)
	if err != nil {
		return v, err
	}
	err = model.Transact(b.DB.WithContext(ctx), func(tx *gorm.DB) error {
		if err := checkNames(tx, a); err != nil {
			return err
		}
		var rows []model.Alert
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Find(&rows).Error; err != nil {
			return err
		}
		row := model.Alert{Name: name, Created: time.Now()}
		if len(rows) > 0 {
			row = rows[0]
		}
		if p.Base != nil && *p.Base != row.Number {
			return &Refusal{What: fmt.Sprintf("alert %s was changed meanwhile, by %s: it has number %d", name, cmp.Or(row.By, "nobody"), row.Number), Mend: "look at it again, and put the changes together", Conflict: true}
		}
		if row.ID != 0 && string(row.Text) == p.Text && row.Off == p.Off {
			return nil
		}
		if row.ID == 0 {
			var count int64
			if err := tx.Model(&model.Alert{}).Count(&count).Error; err != nil || count >= mostAlerts {
				return cmp.Or(err, refuse("remove some: oakbarrel alert remove NAME", "there are %d alerts already", count))
			}
		}
		row.Text, row.Off, row.By, row.Changed = []byte(p.Text), p.Off, by, time.Now()
		row.Number++
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		if err := forget(tx, row.ID); err != nil {
			return err
		}
		if a.Kind == alert.Fewer && a.By == "" { // also where no record ever comes
			text, err := json.Marshal(alert.State{First: time.Now().UnixMicro()})
			if err != nil {
				return err
			}
			return tx.Create(&model.AlertState{AlertID: row.ID, State: string(text), Last: time.Now().UnixMicro()}).Error
		}
		return nil
	})
	if err != nil {
		return v, err
	}
	return b.changed(ctx, name)
}

// changed tells the alerts to who watches, and returns one.
func (b *Book) changed(ctx context.Context, name string) (v client.Alert, err error) {
	if err := b.Watch.Load(ctx); err != nil {
		return v, err
	}
	all, err := b.Alerts(ctx, nil)
	if i := slices.IndexFunc(all, func(a client.Alert) bool { return a.Name == name }); err == nil && i >= 0 {
		v = all[i]
	}
	return v, err
}

// checkNames refuses an alert that names what is not there.
func checkNames(tx *gorm.DB, a *alert.Alert) error {
	if a.Cask != "" {
		var n int64
		if err := tx.Model(&model.Cask{}).Where("name = ?", a.Cask).Count(&n).Error; err != nil || n == 0 {
			return cmp.Or(err, refuse("oakbarrel cask list tells them", "there is no cask %s", a.Cask))
		}
	}
	for _, to := range a.Tell {
		var n int64
		if err := tx.Model(&model.Receiver{}).Where("name = ?", to).Count(&n).Error; err != nil || n == 0 {
			return cmp.Or(err, refuse("make it with: oakbarrel receiver set "+to+" --webhook-file FILE", "there is no receiver %s", to))
		}
	}
	return nil
}

// forget has an alert know nothing any more: it begins anew.
func forget(tx *gorm.DB, id uint64) error {
	if err := tx.Where("alert_id = ?", id).Delete(&model.AlertState{}).Error; err != nil {
		return err
	}
	open := tx.Model(&model.Notice{}).Select("id").Where("alert_id = ? AND state <> 'done'", id)
	if err := tx.Model(&model.NoticeWho{}).Where("notice_id IN (?)", open).Update("holds", false).Error; err != nil {
		return err
	}
	return tx.Model(&model.Notice{}).Where("alert_id = ? AND state <> 'done'", id).Update("holds", false).Error
}

// Remove removes an alert. What it has told stays, and is done where nobody is on it.
func (b *Book) Remove(ctx context.Context, name string) error {
	err := model.Transact(b.DB.WithContext(ctx), func(tx *gorm.DB) error {
		var rows []model.Alert
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Find(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return &Refusal{What: "there is no alert of that name", Mend: "oakbarrel alert list tells those that there are", Unknown: true}
		}
		if err := forget(tx, rows[0].ID); err != nil {
			return err
		}
		open := tx.Model(&model.Notice{}).Where("alert_id = ? AND state <> 'done'", rows[0].ID)
		if err := open.Update("pending", false).Error; err != nil {
			return err
		}
		err := tx.Model(&model.Notice{}).Where("alert_id = ? AND state = 'told'", rows[0].ID).Updates(map[string]any{"state": client.NoticeDone, "why": "the alert was removed", "changed": time.Now()}).Error
		if err != nil {
			return err
		}
		return tx.Delete(&rows[0]).Error
	})
	if err != nil {
		return err
	}
	return b.Watch.Load(ctx)
}

// Receivers lists the receivers.
func (b *Book) Receivers(ctx context.Context) ([]client.Receiver, error) {
	db := b.DB.WithContext(ctx)
	var rows []model.Receiver
	if err := db.Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	alerts, err := b.Alerts(ctx, nil)
	if err != nil {
		return nil, err
	}
	var last []model.Delivery // that was tried, of each
	if err := db.Select("receiver", "trouble", "done").Where("id IN (?)", db.Model(&model.Delivery{}).Select("MAX(id)").Where("tries > 0").Group("receiver")).Find(&last).Error; err != nil {
		return nil, err
	}
	all := []client.Receiver{}
	for _, row := range rows {
		r, err := openReceiver(row)
		if err != nil {
			return nil, err
		}
		v := client.Receiver{Name: row.Name, Kind: row.Kind, To: r.words(), By: row.By, Changed: row.Changed, Alerts: []string{}}
		for _, a := range alerts {
			if slices.Contains(a.Tell, row.Name) {
				v.Alerts = append(v.Alerts, a.Name)
			}
		}
		for _, d := range last {
			if d.Receiver == row.Name && d.Done == nil {
				v.Trouble = d.Trouble
			}
		}
		all = append(all, v)
	}
	return all, nil
}

// words tells where notices go, without what is a secret.
func (r receiver) words() string {
	switch r.kind {
	case "mail":
		return fmt.Sprintf("mail to %s by %s", strings.Join(r.To, ", "), r.Server)
	case "push":
		return "a push topic at " + r.Host
	}
	return "a webhook at " + r.Host
}

// PutReceiver makes a receiver, or puts another in its place.
func (b *Book) PutReceiver(ctx context.Context, name string, p client.PutReceiver, by string) error {
	if !isName.MatchString(name) {
		return refuse("a name has letters, digits and - _ . and at most 64 of them", "this cannot be the name of a receiver")
	}
	r, err := check(p)
	if err != nil {
		return err
	}
	to, err := json.Marshal(r.shown)
	if err != nil {
		return err
	}
	hidden, err := json.Marshal(r.secret)
	if err != nil {
		return err
	}
	return model.Transact(b.DB.WithContext(ctx), func(tx *gorm.DB) error {
		var count int64
		if err := tx.Model(&model.Receiver{}).Where("name <> ?", name).Count(&count).Error; err != nil || count >= mostReceivers {
			return cmp.Or(err, refuse("remove some: oakbarrel receiver remove NAME", "there are %d receivers already", count))
		}
		return tx.Save(&model.Receiver{Name: name, Kind: p.Kind, To: string(to), Secret: string(hidden), By: by, Changed: time.Now()}).Error
	})
}

// check finds what is wrong with a receiver. No error has a secret.
func check(p client.PutReceiver) (r receiver, err error) {
	r.kind = p.Kind
	if p.Kind == "mail" {
		r.shown, r.Password = shown{Server: p.Server, From: p.From, To: p.To, User: p.User}, p.Password
		if host, port, err := net.SplitHostPort(p.Server); err != nil || host == "" || port == "" {
			return r, refuse(`write HOST:25, or another port`, "this is not the address of a mail server")
		}
		if len(p.To) == 0 {
			return r, refuse("name one address at least", "a letter goes to nobody")
		}
		for _, address := range append([]string{p.From}, p.To...) {
			if a, err := mail.ParseAddress(address); err != nil || a.Name != "" || strings.ContainsAny(a.Address, " \r\n") {
				return r, refuse("write duty@lantern.example", "one of the addresses of mail is none")
			}
		}
		if (p.User == "") != (p.Password == "") {
			return r, refuse("give both, or none", "user and password belong together")
		}
		if p.Address != "" || p.Token != "" || p.Body != "" {
			return r, refuse("take them away", "address, token and body belong to a webhook or a push topic")
		}
		return r, nil
	}
	u, err := url.Parse(p.Address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return r, refuse("write https://HOST/PATH", "the address of the receiver is none")
	}
	if p.Server != "" || p.From != "" || len(p.To) > 0 || p.User != "" || p.Password != "" {
		return r, refuse("take them away", "server, from, to, user and password belong to mail")
	}
	if p.Kind == "push" && p.Body != "" {
		return r, refuse("take it away", "a push topic has no body of its own")
	}
	var wrong *format.Error
	if _, err := format.ParseBody(p.Body, format.AlertPlaces); errors.As(err, &wrong) {
		return r, refuse(wrong.Mend, "body, column %d: %s", wrong.Offset+1, wrong.What)
	}
	if strings.ContainsAny(p.Token, "\r\n") {
		return r, refuse("write it in one line", "the token has more than one line")
	}
	r.shown, r.secret = shown{Host: u.Host, Body: p.Body}, secret{Address: p.Address, Token: p.Token}
	return r, nil
}

// RemoveReceiver removes a receiver that no alert names.
func (b *Book) RemoveReceiver(ctx context.Context, name string) error {
	all, err := b.Alerts(ctx, nil)
	if err != nil {
		return err
	}
	for _, a := range all {
		if slices.Contains(a.Tell, name) {
			return &Refusal{What: fmt.Sprintf("alert %s tells this receiver", a.Name), Mend: "take it from the alert first", Conflict: true}
		}
	}
	removed := b.DB.WithContext(ctx).Where("name = ?", name).Delete(&model.Receiver{})
	if removed.Error == nil && removed.RowsAffected == 0 {
		return &Refusal{What: "there is no receiver of that name", Mend: "oakbarrel receiver list tells those that there are", Unknown: true}
	}
	return removed.Error
}
