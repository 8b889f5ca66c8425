package api

import (
	"context"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/delay"
	"oakbarrel/metrics"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// How often and for how long the database is asked for figures, and of how many casks.
const (
	countedFor   = 30 * time.Second
	countTime    = 10 * time.Second
	mostCasks    = 200     // others are counted, and not told of one by one
	otherAddress = "other" // of the console's files, and of what there is not
)

// Families are all figures of a service, as docs/metrics.md lists them.
var Families = []metrics.Family{
	{Name: "oakbarrel_store_info", Kind: metrics.Gauge, Help: "1, with the version.", Labels: []string{"version"}},
	{Name: "oakbarrel_store_requests_total", Kind: metrics.Counter, Help: "Requests that this service has answered, by address and class of status.", Labels: []string{"method", "address", "status"}},
	{Name: "oakbarrel_store_request_seconds", Kind: metrics.Histogram, Help: "For how long they took, but for those that wait: live views, and agents that ask for orders.", Labels: []string{"method", "address"}},
	{Name: "oakbarrel_store_batches_total", Kind: metrics.Counter, Help: "Batches of agents, by whether they were taken: taken or refused.", Labels: []string{"fate"}},
	{Name: "oakbarrel_store_batch_bytes_total", Kind: metrics.Counter, Help: "Of those that were taken, packed as they came."},
	{Name: "oakbarrel_store_live_views", Kind: metrics.Gauge, Help: "Live views that are open at this service."},
	{Name: "oakbarrel_store_database_up", Kind: metrics.Gauge, Help: "1 where the database has answered the last time that it was asked for what follows, at most each 30 seconds."},
	{Name: "oakbarrel_store_database_bytes", Kind: metrics.Gauge, Help: "What its tables and indexes take."},
	{Name: "oakbarrel_store_shelf_up", Kind: metrics.Gauge, Labels: []string{"shelf"}, Help: "1 where a shelf answers."},
	{Name: "oakbarrel_store_shelf_bytes", Kind: metrics.Gauge, Labels: []string{"shelf"}, Help: "What its tables and indexes take, as of its last answer; of the first shelf only where there are others."},
	{Name: "oakbarrel_store_hosts", Kind: metrics.Gauge, Help: "Hosts that were ever heard."},
	{Name: "oakbarrel_store_hosts_in_need", Kind: metrics.Gauge, Help: "Of those, hosts that need a person, silent ones among them."},
	{Name: "oakbarrel_store_hosts_waiting", Kind: metrics.Gauge, Help: "Agents that wait to be let in."},
	{Name: "oakbarrel_store_rollouts", Kind: metrics.Gauge, Help: "Roll-outs that are under way or paused."},
	{Name: "oakbarrel_store_notices_open", Kind: metrics.Gauge, Help: "What alerts have told and nobody has closed, by state: told, or seen where somebody is on it.", Labels: []string{"state"}},
	{Name: "oakbarrel_store_deliveries_waiting", Kind: metrics.Gauge, Help: "Notices that a receiver has not taken yet."},
	{Name: "oakbarrel_store_feed_records_total", Kind: metrics.Counter, Help: "Records that the feeds of a cask account for since the cask began, by what became of them: came, shed, lost, or refused. All services of a database tell the same.", Labels: []string{"cask", "fate"}},
	{Name: "oakbarrel_store_cask_records", Kind: metrics.Gauge, Help: "Records that a cask has; of the first 200 casks.", Labels: []string{"cask"}},
	{Name: "oakbarrel_store_cask_bytes", Kind: metrics.Gauge, Help: "What they take, packed.", Labels: []string{"cask"}},
	{Name: "oakbarrel_store_cask_bytes_per_day", Kind: metrics.Gauge, Help: "What a cask grew by each day, over the last seven.", Labels: []string{"cask"}},
	{Name: "oakbarrel_store_cask_newest_time_seconds", Kind: metrics.Gauge, Help: "The time of its newest record, since 1970; 0 for none.", Labels: []string{"cask"}},
}

// meter counts what a service does. The zero value is ready; it may be used by several
// goroutines at a time.
type meter struct {
	took     sync.Map // of a route, to *delay.Histogram
	answered sync.Map // of a route with a class of status, to *atomic.Int64

	taken, refused, bytes atomic.Int64
}

// route is a method and an address, which has names where requests have what they name.
type route struct{ method, address, status string }

// measure counts requests and for how long they took.
func (m *meter) measure(c *gin.Context) {
	began := time.Now()
	c.Next()
	r := route{c.Request.Method, c.FullPath(), ""}
	if r.address == "" {
		r.method, r.address = "GET", otherAddress // so that nobody makes up methods
	}
	if !waits(r) {
		took, _ := m.took.LoadOrStore(r, new(delay.Histogram))
		took.(*delay.Histogram).Observe(time.Since(began))
	}
	r.status = strconv.Itoa(c.Writer.Status()/100) + "xx"
	n, _ := m.answered.LoadOrStore(r, new(atomic.Int64))
	n.(*atomic.Int64).Add(1)
}

// waits tells whether an answer waits for what is to come.
func waits(r route) bool {
	return r.method == http.MethodGet && (r.address == root+"/follow" || r.address == root+"/agents/:agent/orders")
}

// batch counts one batch.
func (m *meter) batch(bytes int, err error) {
	if err != nil {
		m.refused.Add(1)
		return
	}
	m.taken.Add(1)
	m.bytes.Add(int64(bytes))
}

func (m *meter) fill(p *metrics.Page) {
	m.took.Range(func(of, took any) bool {
		r := of.(route)
		p.Spread("oakbarrel_store_request_seconds", took.(*delay.Histogram).Seen(), r.method, r.address)
		return true
	})
	m.answered.Range(func(of, n any) bool {
		r := of.(route)
		p.Add("oakbarrel_store_requests_total", float64(n.(*atomic.Int64).Load()), r.method, r.address, r.status)
		return true
	})
	p.Add("oakbarrel_store_batches_total", float64(m.taken.Load()), "taken")
	p.Add("oakbarrel_store_batches_total", float64(m.refused.Load()), "refused")
	p.Add("oakbarrel_store_batch_bytes_total", float64(m.bytes.Load()))
}

// Figures returns what the service can tell of itself and of its database.
func (a *API) Figures() *metrics.Figures {
	var last census
	return &metrics.Figures{Families: Families, Fill: func(p *metrics.Page) {
		p.Flag("oakbarrel_store_info", true, client.ThisVersion().Version)
		a.meter.fill(p)
		p.Add("oakbarrel_store_live_views", float64(a.live.inUse()))
		if time.Since(last.at) > countedFor {
			last = a.count()
		}
		last.fill(p)
	}}
}

// census is what the database was asked for.
type census struct {
	at       time.Time
	err      error // it has not answered
	bytes    int64
	overview client.Overview
	waiting  []client.Joining
	rollouts int64
	told     int64 // notices
	seen     int64 // likewise
	unsent   int64
	casks    []client.Cask
	feeds    []feedCount
	shelves  []shelfCount
}

// shelfCount is how a shelf is.
type shelfCount struct {
	name  string
	up    bool
	bytes int64
}

// feedCount is what the feeds of a cask account for.
type feedCount struct {
	Name                      string
	Came, Shed, Lost, Refused int64
}

// count asks the database, and gives up at the first question that it does not answer.
func (a *API) count() (c census) {
	ctx, cancel := context.WithTimeout(context.Background(), countTime)
	defer cancel()
	c.at = time.Now()
	db := a.DB.WithContext(ctx)
	for _, ask := range []func() error{
		func() (err error) { c.bytes, err = shelf.BytesOf(ctx, db); return err },
		func() (err error) { c.overview, err = a.Plans.Overview(ctx, db, "", 0); return err },
		func() (err error) { c.waiting, err = access.Joinings(db); return err },
		func() error {
			return db.Model(&model.Rollout{}).Where("state IN ?", []client.RolloutState{client.RolloutProposed, client.RolloutRunning, client.RolloutPaused, client.RolloutGoingBack}).Count(&c.rollouts).Error
		},
		func() error {
			return db.Model(&model.Notice{}).Where("state = ?", client.NoticeTold).Count(&c.told).Error
		},
		func() error {
			return db.Model(&model.Notice{}).Where("state = ?", client.NoticeSeen).Count(&c.seen).Error
		},
		func() error {
			return db.Model(&model.Delivery{}).Where("done IS NULL AND given = 0").Count(&c.unsent).Error
		},
		func() error { return c.countFeeds(ctx, db, a.Shelves.All()) },
		func() (err error) { c.casks, err = a.describe(ctx, db.Limit(mostCasks)); return err },
	} {
		if c.err = ask(); c.err != nil {
			return c
		}
	}
	return c
}

// countFeeds asks each shelf what its feeds account for. Of one that is away nothing is told:
// figures that only grow would seem to fall.
func (c *census) countFeeds(ctx context.Context, db *gorm.DB, shelves []*shelf.Shelf) error {
	var casks []model.Cask
	if err := db.Select("id", "name").Order("name").Limit(mostCasks).Find(&casks).Error; err != nil {
		return err
	}
	sums, missing := map[uint64]feedCount{}, false
	for _, of := range shelves {
		on, err := of.DB(ctx)
		var rows []struct{ CaskID, Came, Shed, Lost, Refused int64 }
		if err == nil {
			err = on.Model(&model.Feed{}).Where("shelf_id = ?", of.ID).Group("cask_id").
				Select("cask_id, SUM(came) AS came, SUM(shed) AS shed, SUM(lost) AS lost, SUM(refused) AS refused").Scan(&rows).Error
		}
		c.shelves = append(c.shelves, shelfCount{of.Name(), err == nil, of.Used()})
		if err != nil && of.ID == model.FirstShelf {
			return err
		}
		missing = missing || err != nil
		for _, r := range rows {
			s := sums[uint64(r.CaskID)]
			s.Came, s.Shed, s.Lost, s.Refused = s.Came+r.Came, s.Shed+r.Shed, s.Lost+r.Lost, s.Refused+r.Refused
			sums[uint64(r.CaskID)] = s
		}
	}
	for _, cask := range casks {
		if s, some := sums[cask.ID]; some && !missing {
			s.Name = cask.Name
			c.feeds = append(c.feeds, s)
		}
	}
	return nil
}

func (c *census) fill(p *metrics.Page) {
	p.Flag("oakbarrel_store_database_up", c.err == nil)
	if c.err != nil {
		return
	}
	p.Add("oakbarrel_store_database_bytes", float64(c.bytes))
	for _, of := range c.shelves {
		p.Flag("oakbarrel_store_shelf_up", of.up, of.name)
		p.Add("oakbarrel_store_shelf_bytes", float64(of.bytes), of.name)
	}
	p.Add("oakbarrel_store_hosts", float64(c.overview.All))
	p.Add("oakbarrel_store_hosts_in_need", float64(c.overview.Need))
	p.Add("oakbarrel_store_hosts_waiting", float64(len(c.waiting)))
	p.Add("oakbarrel_store_rollouts", float64(c.rollouts))
	p.Add("oakbarrel_store_notices_open", float64(c.told), client.NoticeTold)
	p.Add("oakbarrel_store_notices_open", float64(c.seen), client.NoticeSeen)
	p.Add("oakbarrel_store_deliveries_waiting", float64(c.unsent))
	for _, f := range c.feeds {
		for fate, n := range map[string]int64{"came": f.Came, "shed": f.Shed, "lost": f.Lost, "refused": f.Refused} {
			p.Add("oakbarrel_store_feed_records_total", float64(n), f.Name, fate)
		}
	}
	for _, k := range c.casks {
		p.Add("oakbarrel_store_cask_records", float64(k.Records), k.Name)
		p.Add("oakbarrel_store_cask_bytes", float64(k.Bytes), k.Name)
		p.Add("oakbarrel_store_cask_bytes_per_day", float64(k.BytesPerDay), k.Name)
		newest := 0.0
		if k.Last != nil {
			newest = float64(k.Last.Unix())
		}
		p.Add("oakbarrel_store_cask_newest_time_seconds", newest, k.Name)
	}
}
