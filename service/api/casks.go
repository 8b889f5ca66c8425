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
	"oakbarrel/service/shelf"
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

// caskSums is what a shelf has of a cask.
type caskSums struct {
	CaskID         uint64
	Records, Bytes int64
	Oldest, Newest *int64
	Begun          *int64 // when the first block of the last days came
	Recent         int64  // bytes of the last days
}

// add adds what another shelf has.
func (s *caskSums) add(o caskSums) {
	s.Records += o.Records
	s.Bytes += o.Bytes
	s.Recent += o.Recent
	s.Oldest, s.Newest, s.Begun = earlier(s.Oldest, o.Oldest), later(s.Newest, o.Newest), earlier(s.Begun, o.Begun)
}

func earlier(a, b *int64) *int64 {
	if a == nil || b != nil && *b < *a {
		return b
	}
	return a
}

func later(a, b *int64) *int64 {
	if a == nil || b != nil && *b > *a {
		return b
	}
	return a
}

// describe tells of the casks that db chooses, what all shelves have of them together.
func (a *API) describe(ctx context.Context, db *gorm.DB) ([]client.Cask, error) {
	var casks []model.Cask
	if err := db.Order("casks.name").Find(&casks).Error; err != nil {
		return nil, err
	}
	var ids []uint64
	sums := map[uint64]*caskSums{}
	for _, c := range casks {
		ids = append(ids, c.ID)
		sums[c.ID] = &caskSums{}
	}
	week := time.Now().AddDate(0, 0, -growthDays).UnixMicro()
	missing, err := a.eachShelf(ctx, ids, func(on *gorm.DB, _ uint32) error {
		var rows []caskSums
		err := on.Model(&model.Block{}).Where("cask_id IN ? AND records > 0 AND moving = 0", ids).
			Select("cask_id, COALESCE(SUM(records), 0) AS records, COALESCE(SUM(size), 0) AS bytes, MIN(first_time) AS oldest, MAX(last_time) AS newest, "+
				"MIN(IF(arrived >= ?, arrived, NULL)) AS begun, COALESCE(SUM(IF(arrived >= ?, size, 0)), 0) AS recent", week, week).
			Group("cask_id").Find(&rows).Error
		for _, r := range rows {
			sums[r.CaskID].add(r)
		}
		return err
	})
	all := []client.Cask{}
	for _, of := range casks {
		r := sums[of.ID]
		c := client.Cask{Name: of.Name, Records: r.Records, Bytes: r.Bytes, First: timeOf(r.Oldest), Last: timeOf(r.Newest), Retention: retentionOf(of.Keep), Missing: missing}
		if of.ShelfID != 0 {
			c.Shelf = a.Shelves.Of(of.ShelfID).Name()
		}
		if r.Begun != nil {
			days := max(time.Since(time.UnixMicro(*r.Begun)).Hours()/24, 1.0/24)
			c.BytesPerDay = int64(float64(r.Recent) / days)
		}
		c.WillReach = willReach(c)
		all = append(all, c)
	}
	return all, err
}

// eachShelf asks the shelves that have something of casks, one after the other, and returns
// the names of those that are away.
func (a *API) eachShelf(ctx context.Context, casks []uint64, ask func(db *gorm.DB, id uint32) error) (missing []string, err error) {
	view, err := a.Shelves.View(ctx, casks)
	if err != nil {
		return nil, err
	}
	for _, of := range view.Shelves {
		db, err := of.DB(ctx)
		if err == nil {
			err = ask(db, of.ID)
		}
		if err != nil && of.ID != model.FirstShelf && shelf.IsGone(err) && ctx.Err() == nil {
			missing = append(missing, of.Name())
		} else if err != nil {
			return nil, err
		}
	}
	return missing, nil
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

// The times that an answer can tell (RFC 3339, section 1). A sender may write others.
var (
	firstTime = time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	lastTime  = time.Date(10_000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro() - 1
)

// timeOf returns a time as an answer tells it, the nearest that it can tell.
func timeOf(micros *int64) *time.Time {
	if micros == nil {
		return nil
	}
	t := time.UnixMicro(max(firstTime, min(*micros, lastTime))).UTC()
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

// feedSums is what a shelf has of a feed.
type feedSums struct {
	ID                      uint64
	AgentID, Outlet         string
	Generation              string
	Twice                   int64
	Sender                  string
	Confirmed               uint64
	Records, Lost, Refused  int64
	Arrived, Oldest, Newest *int64
}

// feeds tells of the feeds of which a cask has something.
func (a *API) feeds(ctx context.Context, cask string) ([]client.Feed, error) {
	db := a.DB.WithContext(ctx)
	var of model.Cask
	if err := db.Where("name = ?", cask).Take(&of).Error; err != nil {
		return nil, err
	}
	var rows []feedSums
	shed := map[uint64]int64{}
	_, err := a.eachShelf(ctx, []uint64{of.ID}, func(on *gorm.DB, id uint32) error {
		var some []feedSums
		err := on.Table("blocks").Where("blocks.cask_id = ? AND blocks.moving = 0", of.ID).Joins("JOIN feeds ON feeds.id = blocks.feed_id AND feeds.shelf_id = ?", id).
			Select("feeds.id, feeds.agent_id, feeds.outlet, feeds.generation, SUM(IF(blocks.twice, blocks.records, 0)) AS twice, MAX(feeds.sender) AS sender, MAX(feeds.confirmed) AS confirmed, SUM(blocks.records) AS records, SUM(blocks.lost) AS lost, SUM(blocks.refused) AS refused, " +
				"MAX(blocks.arrived) AS arrived, MIN(IF(blocks.records > 0, blocks.first_time, NULL)) AS oldest, MAX(IF(blocks.records > 0, blocks.last_time, NULL)) AS newest").
			Group("feeds.id").Find(&some).Error
		if err != nil {
			return err
		}
		rows = append(rows, some...)
		return shedByFeed(on, of.ID, shed)
	})
	if err != nil {
		return nil, err
	}
	hosts, err := a.hostsOf(ctx, rows)
	feeds := []client.Feed{}
	for _, r := range rows {
		f := client.Feed{Host: hosts[r.AgentID], Sender: r.Sender, AgentID: r.AgentID, Outlet: r.Outlet, Generation: r.Generation, Twice: r.Twice, Confirmed: r.Confirmed, Records: r.Records, Lost: r.Lost, Refused: r.Refused, Shed: shed[r.ID],
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

// hostsOf returns the names of the hosts of feeds, by agent.
func (a *API) hostsOf(ctx context.Context, feeds []feedSums) (map[string]string, error) {
	var ids []string
	for _, f := range feeds {
		ids = append(ids, f.AgentID)
	}
	slices.Sort(ids)
	hosts := map[string]string{}
	for some := range slices.Chunk(slices.Compact(ids), 1000) {
		var agents []model.Agent
		if err := a.DB.WithContext(ctx).Select("id", "host").Where("id IN ?", some).Find(&agents).Error; err != nil {
			return nil, err
		}
		for _, of := range agents {
			hosts[of.ID] = of.Host
		}
	}
	return hosts, nil
}

// shedByFeed adds how many records of each feed were shed.
func shedByFeed(db *gorm.DB, cask uint64, total map[uint64]int64) error {
	var rows []struct {
		FeedID uint64
		Shed   string
	}
	err := db.Model(&model.Block{}).Where("cask_id = ? AND shed <> '' AND moving = 0", cask).Select("feed_id, shed").Find(&rows).Error
	for _, r := range rows {
		var bySeverity [8]int64
		json.Unmarshal([]byte(r.Shed), &bySeverity) // the service wrote it
		for _, n := range bySeverity {
			total[r.FeedID] += n
		}
	}
	return err
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
	if in.Body.Shelf != nil {
		if c.ShelfID, err = a.shelfNamed(*in.Body.Shelf); err != nil {
			return nil, err
		}
	}
	if err := a.DB.WithContext(ctx).Save(&c).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	k := c.Keep
	a.record(ctx, "set cask", fmt.Sprintf("%s: keep %d days, %d bytes, held %t, at most %d days", c.Name, k.Days, k.Total, k.Held, k.DaysAtMost))
	return a.cask(ctx, &in.CaskPath)
}

// shelfNamed returns the id of a shelf, 0 for the one with the most room.
func (a *API) shelfNamed(name string) (uint32, error) {
	if name == "" {
		return 0, nil
	}
	for _, of := range a.Shelves.All() {
		if of.Name() == name {
			return of.ID, nil
		}
	}
	return 0, problem(http.StatusNotFound, "there is no shelf of that name", "oakbarrel shelf list tells which there are")
}

func change[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}
