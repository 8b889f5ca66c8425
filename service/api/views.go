package api

import (
	"context"
	"net/http"
	"time"

	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

type viewsOutput struct{ Body []client.View }

// views lists the searches that were kept. They are the same for everybody.
func (a *API) views(ctx context.Context, _ *struct{}) (*viewsOutput, error) {
	var rows []model.View
	if err := a.DB.WithContext(ctx).Order("name").Find(&rows).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &viewsOutput{Body: []client.View{}}
	for _, r := range rows {
		out.Body = append(out.Body, client.View{Name: r.Name, Cask: r.Cask, Since: r.Since, Where: r.Where, By: r.By})
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
	row := model.View{Name: v.Name, Cask: v.Cask, Since: v.Since, Where: v.Where, By: visitor(ctx).Name, Changed: time.Now()}
	if err := a.DB.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "keep view", v.Name)
	return a.views(ctx, nil)
}

type dropViewInput struct {
	Name string `query:"name" required:"true"`
}

func (a *API) dropView(ctx context.Context, in *dropViewInput) (*viewsOutput, error) {
	done := a.DB.WithContext(ctx).Where("name = ?", in.Name).Delete(&model.View{})
	if done.Error != nil {
		return nil, a.unavailable(ctx, done.Error)
	}
	if done.RowsAffected == 0 {
		return nil, problem(http.StatusNotFound, "there is no view of that name", "oakbarrel views lists those that there are")
	}
	a.record(ctx, "drop view", in.Name)
	return a.views(ctx, nil)
}
