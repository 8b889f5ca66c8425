package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

type casksOutput struct{ Body []client.Cask }

// casks lists the casks that the visitor may read.
func (a *API) casks(ctx context.Context, _ *struct{}) (*casksOutput, error) {
	all, err := a.describe(ctx, a.mayRead(ctx))
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &casksOutput{all}, nil
}

// growthDays is over how many days the growth of a cask is measured.
const growthDays = 7

// describe tells of the casks that db chooses.
func (a *API) describe(ctx context.Context, db *gorm.DB) ([]client.Cask, error) {
	var rows []struct {
		model.Cask
		Records, Bytes int64
		Oldest, Newest *int64
		Begun          *int64 // when the first block of the last days came
		Recent         int64  // bytes of the last days
	}
	week := time.Now().AddDate(0, 0, -growthDays).UnixMicro()
	err := db.Model(&model.Cask{}).Joins("LEFT JOIN blocks ON blocks.cask_id = casks.id AND blocks.records > 0").
		Select("casks.*, COALESCE(SUM(blocks.records), 0) AS records, COALESCE(SUM(blocks.size), 0) AS bytes, MIN(blocks.first_time) AS oldest, MAX(blocks.last_time) AS newest, "+
			"MIN(IF(blocks.arrived >= ?, blocks.arrived, NULL)) AS begun, COALESCE(SUM(IF(blocks.arrived >= ?, blocks.size, 0)), 0) AS recent", week, week).
		Group("casks.id").Order("casks.name").Find(&rows).Error
	all := []client.Cask{}
	for _, r := range rows {
		c := client.Cask{Name: r.Name, Records: r.Records, Bytes: r.Bytes, First: timeOf(r.Oldest), Last: timeOf(r.Newest), Retention: retentionOf(r.Keep)}
		if r.Begun != nil {
			days := max(time.Since(time.UnixMicro(*r.Begun)).Hours()/24, 1.0/24)
			c.BytesPerDay = int64(float64(r.Recent) / days)
		}
		c.WillReach = willReach(c)
		all = append(all, c)
	}
	return all, err
}

func retentionOf(k model.Keep) client.Retention {
	return client.Retention{KeepDays: k.Days, KeepTotal: k.Total, Held: k.Held, DaysAtMost: k.DaysAtMost}
}

// willReach forecasts how large a cask becomes as it grows now, nil for without bound.
func willReach(c client.Cask) *int64 {
	days := c.DaysAtMost
	if !c.Held && c.KeepDays > 0 && (days == 0 || c.KeepDays < days) {
		days = c.KeepDays
	}
	var bound *int64
	if days > 0 {
		byDays := c.BytesPerDay * int64(days)
		bound = &byDays
	}
	if !c.Held && c.KeepTotal > 0 && (bound == nil || c.KeepTotal < *bound) {
		bound = &c.KeepTotal
	}
	return bound
}

func timeOf(micros *int64) *time.Time {
	if micros == nil {
		return nil
	}
	t := time.UnixMicro(*micros).UTC()
	return &t
}

// CaskPath names a cask.
type CaskPath struct {
	Cask string `path:"cask" pattern:"^[A-Za-z0-9._-]{1,64}$" doc:"the name of the cask"`
}

type caskOutput struct{ Body client.CaskAndFeeds }

// cask tells of one cask and of the feeds that flow into it.
func (a *API) cask(ctx context.Context, in *CaskPath) (*caskOutput, error) {
	all, err := a.describe(ctx, a.mayRead(ctx).Where("casks.name = ?", in.Cask))
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	if len(all) == 0 {
		return nil, problem(http.StatusNotFound, "there is no cask "+quoted(in.Cask)+" that may be read", "oakbarrel casks lists those that may")
	}
	feeds, err := a.feeds(ctx, in.Cask)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &caskOutput{client.CaskAndFeeds{Cask: all[0], Feeds: feeds}}, nil
}

// feeds tells of the feeds of which a cask has something.
func (a *API) feeds(ctx context.Context, cask string) ([]client.Feed, error) {
	var rows []struct {
		ID                      uint64
		AgentID, Outlet, Host   string
		Generation              string
		Twice                   int64
		Sender                  string
		Confirmed               uint64
		Records, Lost, Refused  int64
		Arrived, Oldest, Newest *int64
	}
	db := a.DB.WithContext(ctx)
	err := db.Table("blocks").Joins("JOIN casks ON casks.id = blocks.cask_id AND casks.name = ?", cask).
		Joins("JOIN feeds ON feeds.id = blocks.feed_id").Joins("LEFT JOIN agents ON agents.id = feeds.agent_id").
		Select("feeds.id, feeds.agent_id, feeds.outlet, feeds.generation, SUM(IF(blocks.twice, blocks.records, 0)) AS twice, COALESCE(MAX(agents.host), '') AS host, MAX(feeds.sender) AS sender, MAX(feeds.confirmed) AS confirmed, SUM(blocks.records) AS records, SUM(blocks.lost) AS lost, SUM(blocks.refused) AS refused, " +
			"MAX(blocks.arrived) AS arrived, MIN(IF(blocks.records > 0, blocks.first_time, NULL)) AS oldest, MAX(IF(blocks.records > 0, blocks.last_time, NULL)) AS newest").
		Group("feeds.id").Find(&rows).Error
	if err != nil {
		return nil, err
	}
	shed, err := a.shedByFeed(db, cask)
	feeds := []client.Feed{}
	for _, r := range rows {
		f := client.Feed{Host: r.Host, Sender: r.Sender, AgentID: r.AgentID, Outlet: r.Outlet, Generation: r.Generation, Twice: r.Twice, Confirmed: r.Confirmed, Records: r.Records, Lost: r.Lost, Refused: r.Refused, Shed: shed[r.ID],
			Arrived: timeOf(r.Arrived), First: timeOf(r.Oldest), Last: timeOf(r.Newest)}
		if f.Last != nil {
			f.DelaySeconds = f.Arrived.Sub(*f.Last).Seconds()
		}
		feeds = append(feeds, f)
	}
	slices.SortFunc(feeds, func(a, b client.Feed) int {
		return cmp.Or(cmp.Compare(a.Host, b.Host), cmp.Compare(a.Outlet, b.Outlet), cmp.Compare(a.AgentID, b.AgentID))
	})
	return feeds, err
}

func (a *API) shedByFeed(db *gorm.DB, cask string) (map[uint64]int64, error) {
	var rows []struct {
		FeedID uint64
		Shed   string
	}
	err := db.Table("blocks").Joins("JOIN casks ON casks.id = blocks.cask_id AND casks.name = ?", cask).Where("blocks.shed <> ''").Select("blocks.feed_id, blocks.shed").Find(&rows).Error
	total := map[uint64]int64{}
	for _, r := range rows {
		var bySeverity [8]int64
		json.Unmarshal([]byte(r.Shed), &bySeverity) // the service wrote it
		for _, n := range bySeverity {
			total[r.FeedID] += n
		}
	}
	return total, err
}

type setCaskInput struct {
	CaskPath
	Body client.SetRetention
}

// setCask changes for how long a cask keeps its records.
func (a *API) setCask(ctx context.Context, in *setCaskInput) (*caskOutput, error) {
	var c model.Cask
	err := a.DB.WithContext(ctx).Where("name = ?", in.Cask).Take(&c).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, problem(http.StatusNotFound, "there is no cask "+quoted(in.Cask), "oakbarrel casks lists those that there are")
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	change(&c.Keep.Days, in.Body.KeepDays)
	change(&c.Keep.Total, in.Body.KeepTotal)
	change(&c.Keep.Held, in.Body.Held)
	change(&c.Keep.DaysAtMost, in.Body.DaysAtMost)
	if err := a.DB.WithContext(ctx).Save(&c).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	k := c.Keep
	a.record(ctx, "set cask", fmt.Sprintf("%s: keep %d days, %d bytes, held %t, at most %d days", c.Name, k.Days, k.Total, k.Held, k.DaysAtMost))
	return a.cask(ctx, &in.CaskPath)
}

func change[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}
