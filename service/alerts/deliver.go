package alerts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/format"
	"oakbarrel/post"
	"oakbarrel/service/guard"
	"oakbarrel/service/model"
)

const (
	deliverTime  = time.Second      // between two looks for what is to be delivered
	idleTime     = 10 * time.Second // likewise, where there are no alerts
	deliverLease = 2 * time.Minute
	firstRetry   = 10 * time.Second
	lastRetry    = time.Hour
	giveUpTime   = 24 * time.Hour
	mostAtOnce   = 200
	mostTrouble  = 500 // bytes
)

// Carrier brings notices to receivers. One service of those before a database does so at a time;
// where it is killed between a delivery and its note, the receiver gets it twice.
type Carrier struct {
	DB     *gorm.DB
	Log    *slog.Logger
	Holder string // tells this service apart from others
	Now    func() time.Time
	Link   string // the address of the console, "" for none that is known
	Watch  *Watch // nil where it is not known whether there are alerts
}

var web = post.Web()

// Run delivers until ctx ends.
func (c *Carrier) Run(ctx context.Context) {
	var last time.Time
	for ctx.Err() == nil {
		if c.Watch.Any() || time.Since(last) > idleTime {
			last = time.Now()
			if err := c.Once(ctx); err != nil && ctx.Err() == nil {
				c.Log.Warn("notices cannot be delivered now", "why", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(deliverTime):
		}
	}
}

// Once delivers what is due. No receiver waits for another one.
func (c *Carrier) Once(ctx context.Context) error {
	db := c.DB.WithContext(ctx)
	var due []model.Delivery
	if err := db.Where("done IS NULL AND given = 0 AND due <= ?", c.Now()).Order("id").Limit(mostAtOnce).Find(&due).Error; err != nil || len(due) == 0 {
		return err
	}
	lease := model.Lease{Job: "deliver", Holder: c.Holder, For: deliverLease}
	if mine, err := lease.Take(db); err != nil || !mine {
		return err
	}
	byReceiver := map[string][]model.Delivery{}
	for _, d := range due {
		byReceiver[d.Receiver] = append(byReceiver[d.Receiver], d)
	}
	var delivering sync.WaitGroup
	errs := make(chan error, len(byReceiver))
	for _, all := range byReceiver {
		delivering.Go(func() {
			errs <- guard.Run(func() error { return c.deliverAll(ctx, lease, all) })
		})
	}
	delivering.Wait()
	close(errs)
	var all error
	for err := range errs {
		all = errors.Join(all, err)
	}
	return all
}

// deliverAll delivers to one receiver, until it does not take one.
func (c *Carrier) deliverAll(ctx context.Context, lease model.Lease, all []model.Delivery) error {
	for _, d := range all {
		if mine, err := lease.Take(c.DB.WithContext(ctx)); err != nil || !mine { // another service has taken over
			return err
		}
		took, err := c.deliver(ctx, d)
		if err != nil || !took {
			return err
		}
	}
	return nil
}

func (c *Carrier) deliver(ctx context.Context, d model.Delivery) (took bool, err error) {
	db := c.DB.WithContext(ctx)
	var n model.Notice
	if err := db.Take(&n, d.NoticeID).Error; err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return false, err
	}
	now := c.Now()
	if n.State == client.NoticeDone && d.Tries == 0 || n.ID == 0 {
		return true, db.Model(&d).Updates(map[string]any{"done": now, "trouble": "it was done before"}).Error
	}
	m := message{title: d.Title, text: d.Text, alert: n.Alert, note: n.Note, topic: fmt.Sprintf("notice-%d", n.ID)}
	if c.Link != "" {
		m.link = fmt.Sprintf("%s/notices/%d", c.Link, n.ID)
	}
	problem := c.send(ctx, d.Receiver, m)
	if problem == nil {
		return true, db.Model(&d).Updates(map[string]any{"done": c.Now(), "trouble": "", "tries": d.Tries + 1}).Error
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	wait := min(lastRetry, firstRetry<<min(d.Tries, 16))
	var later *client.RetryLater
	if errors.As(problem, &later) {
		wait = max(wait, min(later.After, lastRetry))
	}
	trouble := harmless(problem.Error())
	if len(trouble) > mostTrouble {
		trouble = valid(trouble[:mostTrouble])
	}
	given := now.Sub(d.Created) > giveUpTime
	c.Log.Warn("a notice is not delivered", "receiver", d.Receiver, "notice", n.ID, "tries", d.Tries+1, "given_up", given, "why", trouble)
	due := c.Now().Add(wait)
	if err := db.Model(&d).Updates(map[string]any{"tries": d.Tries + 1, "due": due, "trouble": trouble, "given": given}).Error; err != nil {
		return false, err
	}
	// What else waits for this receiver waits with it, so that it leaves room for others.
	return false, db.Model(&model.Delivery{}).Where("receiver = ? AND done IS NULL AND given = 0 AND due < ?", d.Receiver, due).Update("due", due).Error
}

// message is what a receiver is told.
type message struct{ title, text, alert, note, link, topic string }

func (m message) whole() string {
	if m.link == "" {
		return m.text
	}
	return m.text + "\n" + m.link + "\n"
}

// send sends a message to a receiver.
func (c *Carrier) send(ctx context.Context, name string, m message) error {
	var row model.Receiver
	err := c.DB.WithContext(ctx).Take(&row, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return fmt.Errorf("there is no receiver %s", name)
	}
	if err != nil {
		return &client.RetryLater{Err: errors.New("the database does not answer")}
	}
	to, err := openReceiver(row)
	if err != nil {
		return err
	}
	return to.send(ctx, m)
}

// receiver is where notices go, as it is kept: what may be shown, and what may not.
type receiver struct {
	kind string
	shown
	secret
}

type shown struct {
	Server string   `json:"server,omitempty"`
	From   string   `json:"from,omitempty"`
	To     []string `json:"to,omitempty"`
	User   string   `json:"user,omitempty"`
	Host   string   `json:"host,omitempty"` // of the address
	Body   string   `json:"body,omitempty"`
}

type secret struct {
	Address  string `json:"address,omitempty"`
	Token    string `json:"token,omitempty"`
	Password string `json:"password,omitempty"`
}

func openReceiver(row model.Receiver) (r receiver, err error) {
	r.kind = row.Kind
	return r, errors.Join(json.Unmarshal([]byte(row.To), &r.shown), json.Unmarshal([]byte(row.Secret), &r.secret))
}

func (r receiver) send(ctx context.Context, m message) error {
	header := http.Header{}
	if r.Token != "" {
		header.Set("Authorization", "Bearer "+r.Token)
	}
	switch r.kind {
	case "mail":
		return post.Mail{Server: r.Server, From: r.From, To: r.To, User: r.User, Password: r.Password}.Send(ctx, m.title, m.whole())
	case "push": // RFC 8030: a later message about the same takes the place of one that waits still
		header.Set("Content-Type", "text/plain; charset=utf-8")
		header.Set("TTL", "86400")
		header.Set("Urgency", "high")
		header.Set("Topic", m.topic)
		return post.Request(ctx, web, "the push topic", r.Address, header, []byte(m.title+"\n\n"+m.whole()))
	}
	values := map[string]string{"title": m.title, "text": m.text, "alert": m.alert, "note": m.note, "link": m.link}
	header.Set("Content-Type", "application/json")
	content, err := json.Marshal(values)
	if r.Body != "" && err == nil {
		body, problem := format.ParseBody(r.Body, format.AlertPlaces)
		if problem != nil {
			return problem
		}
		if !body.IsJSON() {
			header.Set("Content-Type", "text/plain; charset=utf-8")
		}
		content = body.Append(nil, func(place string) []byte { return []byte(values[place]) })
	}
	if err != nil {
		return err
	}
	return post.Request(ctx, web, "the webhook", r.Address, header, content)
}

// Try sends a receiver a message that says it is a test.
func (c *Carrier) Try(ctx context.Context, name string) error {
	m := message{title: "A test from the store", text: "This receiver is told where alerts name it. Nothing has happened.\n", alert: "test", topic: "test", link: c.Link}
	return c.send(ctx, name, m)
}
