// Package plans keeps the plans of the service: their revisions, which hosts they are
// for, and how a revision comes to them.
//
// A [Book] answers questions and takes changes; its methods may be called by several
// goroutines, and services, at a time. [Roller.Run] moves roll-outs on; of several
// services before one database one does so at a time.
package plans

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/service/model"
	"oakbarrel/service/refusal"
)

// Book keeps plans in a database.
type Book struct {
	DB *gorm.DB

	mu     sync.Mutex
	wholes map[string][]byte // of revisions that were asked for, by their hash
}

// mostWholes bounds what is remembered of revisions.
const mostWholes = 64

// whole returns the text of a revision with its parts. It is not to be changed.
func (s *Book) whole(db *gorm.DB, r model.Revision) ([]byte, error) {
	s.mu.Lock()
	text, known := s.wholes[r.Hash]
	s.mu.Unlock()
	if known {
		return text, nil
	}
	text, err := assembled(db, r)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.wholes == nil || len(s.wholes) >= mostWholes {
		s.wholes = map[string][]byte{}
	}
	s.wholes[r.Hash] = text
	return text, nil
}

// wholeOf is whole for the revision of a number.
func (s *Book) wholeOf(db *gorm.DB, name string, number int) ([]byte, error) {
	r, err := find(db, name, number)
	if err != nil {
		return nil, err
	}
	return s.whole(db, r)
}

// Refusal is why something is not done.
type Refusal = refusal.Refusal

var refuse = refusal.Of

// reserved are no names of plans: they are addresses of the service.
var reserved = []string{"words", "check", "explain", "compare"}

// isName tells whether a plan of the service may have a name.
func isName(name string) bool { return plan.IsPartName(name) && !slices.Contains(reserved, name) }

// lines returns the last revision of each plan, without its text.
func lines(db *gorm.DB) (rows []model.Revision, err error) {
	err = db.Omit("text").Where("number = (SELECT MAX(number) FROM revisions AS newer WHERE newer.plan = revisions.plan)").Order("plan").Find(&rows).Error
	return rows, err
}

// last returns the last revision of a plan; known is false where there is none.
func last(db *gorm.DB, name string) (r model.Revision, known bool, err error) {
	err = db.Where("plan = ?", name).Order("number DESC").Take(&r).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return r, false, nil
	}
	return r, err == nil, err
}

// find returns a revision, the last one for 0.
func find(db *gorm.DB, name string, number int) (r model.Revision, err error) {
	known := true
	if number == 0 {
		r, known, err = last(db, name)
	} else if err = db.Where("plan = ? AND number = ?", name, number).Take(&r).Error; errors.Is(err, gorm.ErrRecordNotFound) {
		known, err = false, nil
	}
	if err == nil && !known {
		err = &Refusal{What: fmt.Sprintf("there is no revision %d of a plan %s", number, name), Mend: "oakbarrel plans list tells those that there are", Unknown: true}
	}
	return r, err
}

func partsOf(r model.Revision) (parts []client.PartOf) {
	json.Unmarshal([]byte(r.Parts), &parts) // Put wrote it
	return parts
}

// valueOf returns a revision as it is spoken of, without its texts.
func valueOf(r model.Revision) client.PlanRevision {
	return client.PlanRevision{Plan: r.Plan, Number: r.Number, Hash: r.Hash, By: r.By, At: r.At, Why: r.Why, Parts: append([]client.PartOf{}, partsOf(r)...)}
}

// Lines lists the plans.
func (s *Book) Lines(ctx context.Context) ([]client.PlanLine, error) {
	db := s.DB.WithContext(ctx)
	rows, err := lines(db)
	if err != nil {
		return nil, err
	}
	w, err := look(db, nil)
	if err != nil {
		return nil, err
	}
	followers := w.followers(rows)
	all := []client.PlanLine{}
	for _, r := range rows {
		l := client.PlanLine{Plan: r.Plan, Revision: r.Number, InForce: w.inForce[r.Plan], Hash: r.Hash, By: r.By, At: r.At, Why: r.Why, Parts: []string{}, UsedBy: usedBy(rows, r.Plan), Hosts: followers[r.Plan].hosts, Takers: followers[r.Plan].takers, Having: followers[r.Plan].having}
		for _, p := range partsOf(r) {
			l.Parts = append(l.Parts, p.Part)
		}
		all = append(all, l)
	}
	return all, nil
}

// followers counts hosts that are assigned to a plan.
type followers struct {
	hosts  int
	takers int // of those, that take plans of the service
	having int // of those, that have the last revision
}

// followers counts them for each plan, of which rows are the last revisions.
func (w *world) followers(rows []model.Revision) map[string]followers {
	last := map[string]int{}
	for _, r := range rows {
		last[r.Plan] = r.Number
	}
	all := map[string]followers{}
	for _, a := range w.agents {
		d := w.decide(a)
		if d.By == nil {
			continue
		}
		f := all[d.By.Plan]
		f.hosts++
		if a.Served.Takes {
			f.takers++
			if a.Served.Plan == d.By.Plan && a.Served.Revision == last[d.By.Plan] {
				f.having++
			}
		}
		all[d.By.Plan] = f
	}
	return all
}

func inForce(db *gorm.DB) (map[string]int, error) {
	var rows []model.PlanInForce
	err := db.Find(&rows).Error
	all := map[string]int{}
	for _, r := range rows {
		all[r.Plan] = r.Revision
	}
	return all, err
}

// usedBy returns the plans that have a part.
func usedBy(rows []model.Revision, part string) []string {
	users := []string{}
	for _, r := range rows {
		if slices.ContainsFunc(partsOf(r), func(p client.PartOf) bool { return p.Part == part }) {
			users = append(users, r.Plan)
		}
	}
	return users
}

// Revisions lists those of a plan, the newest first.
func (s *Book) Revisions(ctx context.Context, name string) ([]client.PlanRevision, error) {
	var rows []model.Revision
	if err := s.DB.WithContext(ctx).Omit("text").Where("plan = ?", name).Order("number DESC").Find(&rows).Error; err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		_, err := find(s.DB.WithContext(ctx), name, 0)
		return nil, err
	}
	all := []client.PlanRevision{}
	for _, r := range rows {
		all = append(all, valueOf(r))
	}
	return all, nil
}

// Revision returns a revision with its text, and the whole with its parts; 0 is the last.
func (s *Book) Revision(ctx context.Context, name string, number int) (client.PlanRevision, error) {
	db := s.DB.WithContext(ctx)
	r, err := find(db, name, number)
	if err != nil {
		return client.PlanRevision{}, err
	}
	whole, err := s.whole(db, r)
	value := valueOf(r)
	value.Text, value.Whole = string(r.Text), string(whole)
	return value, err
}

// assembled returns the text of a revision with its parts, as they were.
func assembled(db *gorm.DB, r model.Revision) ([]byte, error) {
	texts := map[string][]byte{}
	for _, p := range partsOf(r) {
		of, err := find(db, p.Part, p.Revision)
		if err != nil {
			return nil, err
		}
		texts[p.Part] = of.Text
	}
	whole, _ := plan.Assemble(r.Plan, r.Plan+".yaml", r.Text, func(part string) ([]byte, error) { return texts[part], nil })
	return asPart(r.Plan, whole), nil
}

// asPart returns a whole plan that has no parts as the only part, so that others can follow.
func asPart(name string, whole []byte) []byte {
	if plan.IsJoined(whole) {
		return whole
	}
	return plan.Join([]plan.Part{{Name: name, Text: whole}})
}

// Put makes a new revision of a plan, and of the plans that it is a part of.
func (s *Book) Put(ctx context.Context, name string, n client.NewRevision, by string) (put client.PutPlan, err error) {
	if !isName(name) {
		return put, refuse("a name has letters, digits and - _ . and at most 64 of them, and is not host, values, words, check, explain or compare", "%q cannot be the name of a plan", name)
	}
	err = model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		put = client.PutPlan{Plan: name, Also: []client.PartOf{}, Judged: []client.PlanOnHost{}}
		if err := lockPlans(tx); err != nil {
			return err
		}
		old, known, err := last(tx, name)
		if err != nil {
			return err
		}
		if n.Base != nil && *n.Base != old.Number {
			return &Refusal{What: fmt.Sprintf("plan %s is at revision %d, by %s (%s), and the change was made from revision %d", name, old.Number, old.By, old.Why, *n.Base), Mend: "look at what has changed: oakbarrel plans compare " + name, Conflict: true}
		}
		r := model.Revision{Plan: name, Number: old.Number + 1, Text: []byte(n.Text), By: by, At: time.Now(), Why: n.Why}
		if err := s.pinParts(tx, &r); err != nil {
			return err
		}
		if known && r.Hash == old.Hash {
			put.Revision, put.Same = old.Number, true
			return nil
		}
		if err := tx.Create(&r).Error; err != nil {
			return err
		}
		put.Revision = r.Number
		return s.putUsers(tx, r, &put)
	})
	return put, err
}

// lockPlans keeps others from changing plans until the transaction ends, so that a plan
// and its parts are always of one state.
func lockPlans(tx *gorm.DB) error {
	var job model.Job
	if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&model.Job{Name: "plans"}).Error; err != nil {
		return err
	}
	return tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&job, "name = ?", "plans").Error
}

// pinParts finds out of which revisions of its parts a revision is made.
func (s *Book) pinParts(tx *gorm.DB, r *model.Revision) error {
	names, findings := plan.PartsOf(r.Plan+".yaml", r.Text)
	if findings.Refused() {
		return refused(findings)
	}
	parts := []client.PartOf{}
	for _, name := range names {
		part, known, err := last(tx, name)
		if err != nil {
			return err
		}
		if !known {
			return refuse("put the part first: oakbarrel plans put "+name+" FILE", "plan %s is made of a part %s, which there is not", r.Plan, name)
		}
		parts = append(parts, client.PartOf{Part: name, Revision: part.Number})
	}
	b, err := json.Marshal(parts)
	if err != nil {
		return err
	}
	r.Parts = string(b)
	whole, err := assembled(tx, *r)
	if err != nil {
		return err
	}
	if findings = plan.CheckPart(plan.Part{Name: r.Plan, Text: r.Text}); findings.Refused() { // all else depends on the host, or on what it is a part of
		return refused(findings)
	}
	r.Hash = plan.Hash(whole)
	return nil
}

// refused tells of the first error of a plan.
func refused(findings plan.Findings) error {
	for _, f := range findings {
		if !f.Warning {
			return refuse(f.Mend, "%s:%d:%d: %s", f.File, f.Line, f.Column, f.What)
		}
	}
	return nil
}

// putUsers makes new revisions of the plans that a revision is a part of.
func (s *Book) putUsers(tx *gorm.DB, part model.Revision, put *client.PutPlan) error {
	rows, err := lines(tx)
	if err != nil {
		return err
	}
	for _, name := range usedBy(rows, part.Plan) {
		old, _, err := last(tx, name)
		if err != nil {
			return err
		}
		r := model.Revision{Plan: name, Number: old.Number + 1, Text: old.Text, By: part.By, At: part.At, Why: fmt.Sprintf("part %s, revision %d: %s", part.Plan, part.Number, part.Why)}
		if err := s.pinParts(tx, &r); err != nil {
			return err
		}
		if err := tx.Create(&r).Error; err != nil {
			return err
		}
		put.Also = append(put.Also, client.PartOf{Part: name, Revision: r.Number})
	}
	return nil
}
