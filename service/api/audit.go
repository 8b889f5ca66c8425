package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// record writes down in the audit trail what the visitor did. What cannot be
// written down is told in the log: it is done already.
func (a *API) record(ctx context.Context, what, detail string) {
	a.noteFor(ctx, visitor(ctx).Name, what, detail)
}

// agentName is how the audit trail names an agent: by its id, as the name that its
// host claims could be that of an account.
func agentName(id string) string { return "agent " + id }

func (a *API) noteFor(ctx context.Context, by, what, detail string) {
	a.Log.Info(what, "by", by, "detail", detail)
	a.keepAct(ctx, by, what, detail)
}

func (a *API) keepAct(ctx context.Context, by, what, detail string) {
	act := model.Act{At: time.Now(), By: by, What: what, Detail: detail}
	if err := a.DB.WithContext(context.WithoutCancel(ctx)).Create(&act).Error; err != nil {
		a.Log.Error("the audit trail cannot be written", "what", what, "by", by, "why", err)
	}
}

// noteReading writes down what somebody reads.
func (a *API) noteReading(ctx context.Context, what string, in *Range) {
	var parts []string
	for _, p := range [][2]string{{"cask", in.Cask}, {"since", in.Since}, {"until", in.Until}, {"where", in.Where}} {
		if p[1] != "" {
			parts = append(parts, fmt.Sprintf("%s %s", p[0], p[1]))
		}
	}
	if len(parts) == 0 {
		parts = append(parts, "everything")
	}
	a.keepAct(ctx, visitor(ctx).Name, what, strings.Join(parts, ", "))
}

type auditInput struct {
	Since  string `query:"since" format:"date-time"`
	Before uint64 `query:"before" doc:"only what was done before the act with this number"`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"10000"`
}

type auditOutput struct{ Body []client.Act }

// audit tells who did or read what, the newest first.
func (a *API) audit(ctx context.Context, in *auditInput) (*auditOutput, error) {
	db := a.DB.WithContext(ctx).Order("id DESC").Limit(in.Limit)
	if t, err := time.Parse(time.RFC3339Nano, in.Since); err == nil {
		db = db.Where("at >= ?", t)
	}
	if in.Before > 0 {
		db = db.Where("id < ?", in.Before)
	}
	var rows []model.Act
	if err := db.Find(&rows).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &auditOutput{Body: []client.Act{}}
	for _, r := range rows {
		out.Body = append(out.Body, client.Act(r))
	}
	return out, nil
}
