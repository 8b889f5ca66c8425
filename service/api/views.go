package api

import (
	"context"
	"net/http"
	"time"

	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

type viewsOutput struct{ Body []client.View }

// views lists the searches that the visitor has kept, and those that are for all.
func (a *API) views(ctx context.Context, _ *struct{}) (*viewsOutput, error) {
	var rows []model.View
	if err := a.DB.WithContext(ctx).Where("owner IN ?", []string{visitor(ctx).Owner(), ""}).Order("name, owner DESC").Find(&rows).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &viewsOutput{Body: []client.View{}}
	for _, r := range rows {
		out.Body = append(out.Body, client.View{Name: r.Name, Cask: r.Cask, Since: r.Since, Where: r.Where, By: r.By, Shared: r.Owner == ""})
	}
	return out, nil
}

type keepViewInput struct{ Body client.View }

// keepView keeps a search under a name, in the place of the one that had it.
func (a *API) keepView(ctx context.Context, in *keepViewInput) (*viewsOutput, error) {
	v := in.Body
	if _, err := a.query(ctx, &Range{Cask: v.Cask, Where: v.Where}); err != nil {
		return nil, err
	}
	owner := visitor(ctx).Owner()
	if v.Shared {
		if err := mayShare(ctx); err != nil {
			return nil, err
		}
		owner = ""
	}
	row := model.View{Owner: owner, Name: v.Name, Cask: v.Cask, Since: v.Since, Where: v.Where, By: visitor(ctx).Name, Changed: time.Now()}
	if err := a.DB.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "keep view", v.Name)
	return a.views(ctx, nil)
}

// mayShare returns nil where the visitor may say what views all have.
func mayShare(ctx context.Context) error {
	if refusal := visitor(ctx).Need(access.Operate); refusal != nil {
		return problem(http.StatusForbidden, "a view for all takes an operator: "+refusal.What, refusal.Mend)
	}
	return nil
}

type dropViewInput struct {
	Name   string `query:"name" required:"true"`
	Shared bool   `query:"shared" doc:"the one that is for all, where there is one of one's own too"`
}

// dropView drops a view of one's own, or else one that is for all.
func (a *API) dropView(ctx context.Context, in *dropViewInput) (*viewsOutput, error) {
	var row model.View
	owners := []string{visitor(ctx).Owner(), ""}
	if in.Shared {
		owners = []string{""}
	}
	found := a.DB.WithContext(ctx).Where("name = ? AND owner IN ?", in.Name, owners).Order("owner DESC").Limit(1).Find(&row)
	switch {
	case found.Error != nil:
		return nil, a.unavailable(ctx, found.Error)
	case found.RowsAffected == 0:
		return nil, problem(http.StatusNotFound, "there is no view of that name", "oakbarrel views lists those that there are")
	case row.Owner == "":
		if err := mayShare(ctx); err != nil {
			return nil, err
		}
	}
	if err := a.DB.WithContext(ctx).Where("name = ? AND owner = ?", row.Name, row.Owner).Delete(&model.View{}).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "drop view", in.Name)
	return a.views(ctx, nil)
}
