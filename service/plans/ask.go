package plans

import (
	"cmp"
	"context"
	"slices"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/model"
	"oakbarrel/service/orders"
)

// askTime is for how long hosts are waited for that are asked.
const askTime = 20 * time.Second

// Ask has the hosts of a plan that take plans judge a revision themselves: what only they
// know are users, folders, ports and their bounds. They take nothing.
func (s *Book) Ask(ctx context.Context, desk *orders.Desk, name string, number int, by string) (client.JudgedPlan, error) {
	j := nobodyJudged()
	r, w, err := s.revisionAndWorld(ctx, name, number)
	if err != nil {
		return j, err
	}
	db := s.DB.WithContext(ctx)
	give, hosts := map[string]client.NewOrder{}, map[string]string{}
	for _, a := range w.agents {
		if a.Served.Takes && w.gets(a, name) {
			give[a.ID], hosts[a.ID] = client.NewOrder{Kind: client.JudgePlan, Plan: name, Revision: r.Number}, a.Host
		}
	}
	ids, wake, err := desk.GiveAll(db, give, by)
	if err != nil || len(ids) == 0 {
		return j, err
	}
	wake()
	done, err := answers(ctx, db, ids)
	for agent, host := range hosts {
		o, answered := done[agent]
		why := orders.OutcomeOf(o)
		switch {
		case !answered:
			j.Silent = append(j.Silent, host)
		case why.Why == "":
			j.InOrder++
		case len(why.Findings) == 0:
			j.Judged = append(j.Judged, client.PlanOnHost{AgentID: agent, Host: host, Findings: []string{why.Why}})
		default:
			j.Judged = append(j.Judged, client.PlanOnHost{AgentID: agent, Host: host, Findings: why.Findings})
		}
	}
	slices.Sort(j.Silent)
	slices.SortFunc(j.Judged, func(a, b client.PlanOnHost) int { return cmp.Compare(a.Host, b.Host) })
	return j, err
}

// answers waits for orders to be done, by agent.
func answers(ctx context.Context, db *gorm.DB, ids map[string]uint64) (map[string]model.Order, error) {
	var all []uint64
	for _, id := range ids {
		all = append(all, id)
	}
	done := map[string]model.Order{}
	for began := time.Now(); len(done) < len(ids) && time.Since(began) < askTime && ctx.Err() == nil; time.Sleep(200 * time.Millisecond) {
		for some := range slices.Chunk(all, 500) {
			var rows []model.Order
			if err := db.Where("id IN ? AND done IS NOT NULL", some).Find(&rows).Error; err != nil {
				return done, err
			}
			for _, o := range rows {
				done[o.AgentID] = o
			}
		}
	}
	return done, ctx.Err()
}
