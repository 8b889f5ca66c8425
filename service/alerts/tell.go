package alerts

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"oakbarrel/core/alert"
	"oakbarrel/service/model"
)

// valid leaves out what is no UTF-8.
func valid(text string) string { return strings.ToValidUTF8(text, "\uFFFD") }

// tell has receivers told of notices with something new: at once where nobody was told for a
// while, not in quiet hours, and not while somebody has muted it.
func (j *Judge) tell(ctx context.Context, all readied, now time.Time) error {
	var pending []model.Notice
	if err := j.DB.WithContext(ctx).Where("pending = 1").Order("id").Limit(statesOnce).Find(&pending).Error; err != nil {
		return err
	}
	for _, n := range pending {
		if a := all[n.AlertID]; a == nil || !mayTell(a.Alert, &n, now) {
			continue
		}
		err := j.change(ctx, func(tx *gorm.DB) error { return tellOf(tx, all[n.AlertID], n, now) })
		if err != nil {
			return err
		}
	}
	return nil
}

func mayTell(a *alert.Alert, n *model.Notice, now time.Time) bool {
	return (n.ToldAt == nil || now.Sub(*n.ToldAt) >= alert.Gather) && (n.Muted == nil || !now.Before(*n.Muted)) && !a.IsQuiet(now)
}

// tellOf notes that receivers are to be told of a notice.
func tellOf(tx *gorm.DB, a *live, n model.Notice, now time.Time) error {
	told := tx.Model(&model.Notice{}).Where("id = ? AND pending = 1 AND state <> 'done'", n.ID).Updates(map[string]any{"pending": false, "told_at": now, "told": gorm.Expr("told + 1")})
	if told.Error != nil || told.RowsAffected == 0 {
		return told.Error
	}
	if len(a.Tell) > 0 {
		var about []model.NoticeWho
		if err := tx.Where("notice_id = ? AND new = 1", n.ID).Order("since, who").Limit(mostAbout + 1).Find(&about).Error; err != nil {
			return err
		}
		var of int64
		if err := tx.Model(&model.NoticeWho{}).Where("notice_id = ? AND new = 1", n.ID).Count(&of).Error; err != nil {
			return err
		}
		title, text := titleOf(n.Alert, about, int(of)), textOf(n, about, int(of), a.Zone)
		for _, to := range a.Tell {
			if err := tx.Create(&model.Delivery{NoticeID: n.ID, Receiver: to, Title: title, Text: text, Due: now, Created: now}).Error; err != nil {
				return err
			}
		}
	}
	return tx.Model(&model.NoticeWho{}).Where("notice_id = ? AND new = 1", n.ID).Update("new", false).Error
}

const (
	mostAbout = 20  // lines of what a receiver is told
	mostTitle = 200 // bytes
)

// titleOf tells in a line what a notice is about.
func titleOf(name string, about []model.NoticeWho, of int) string {
	title := name
	if len(about) > 0 {
		title += ": " + about[0].Line
	}
	if len(title) > mostTitle {
		title = valid(title[:mostTitle]) + "…"
	}
	if of > 1 {
		title += fmt.Sprintf(" (and %d more)", of-1)
	}
	return title
}

// textOf tells what a notice is about, as lines of plain text.
func textOf(n model.Notice, about []model.NoticeWho, of int, zone *time.Location) string {
	var b strings.Builder
	for _, w := range about[:min(len(about), mostAbout)] {
		fmt.Fprintf(&b, "%s  %s\n", time.UnixMicro(w.Since).In(zone).Format("2006-01-02 15:04:05 -07:00"), w.Line)
		if w.Times > 1 {
			fmt.Fprintf(&b, "    for the %s time\n", ordinal(w.Times))
		}
		if w.Where != "" {
			fmt.Fprintf(&b, "    where: %s\n", harmless(w.Where))
		}
	}
	if more := of - min(len(about), mostAbout); more > 0 {
		fmt.Fprintf(&b, "and %d more\n", more)
	}
	if n.Note != "" {
		fmt.Fprintf(&b, "\n%s\n", n.Note)
	}
	if n.By != "" {
		fmt.Fprintf(&b, "\n%s is on it.\n", n.By)
	}
	return b.String()
}

func ordinal(n int) string {
	suffix := "th"
	if tens := n % 100 / 10; tens != 1 {
		suffix = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if suffix == "" {
			suffix = "th"
		}
	}
	return fmt.Sprint(n) + suffix
}
