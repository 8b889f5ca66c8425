// Package orders passes on what people want agents to do. The agents always
// call: an order waits in the database until its agent asks, or is asking.
package orders

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/model"
)

// LifeTime is how long an order waits for its agent.
const LifeTime = 10 * time.Minute

// pollTime is how often the database is asked for orders that another service took.
const pollTime = time.Second

// Desk keeps orders. It may be used by several goroutines at a time.
type Desk struct {
	db *gorm.DB

	mu      sync.Mutex
	waiting map[string][]chan struct{} // by agent
}

// New returns a Desk that runs until ctx ends.
func New(ctx context.Context, db *gorm.DB) *Desk {
	d := &Desk{db: db, waiting: map[string][]chan struct{}{}}
	go d.poll(ctx)
	return d
}

// Give puts an order on the desk.
func (d *Desk) Give(ctx context.Context, agentID string, what client.NewOrder, by string) (client.Order, error) {
	details, err := json.Marshal(what)
	if err != nil {
		return client.Order{}, err
	}
	o := model.Order{AgentID: agentID, Kind: string(what.Kind), By: by, Details: string(details), Created: time.Now()}
	err = d.db.WithContext(ctx).Create(&o).Error
	if err == nil {
		d.wake(agentID)
	}
	return valueOf(o), err
}

// GiveAll puts an order for each agent on the desk, as part of a transaction; wake tells
// them, once that is committed. The ids are those of the orders, by agent.
func (d *Desk) GiveAll(tx *gorm.DB, what map[string]client.NewOrder, by string) (ids map[string]uint64, wake func(), err error) {
	var rows []model.Order
	for agent, o := range what {
		details, err := json.Marshal(o)
		if err != nil {
			return nil, nil, err
		}
		rows = append(rows, model.Order{AgentID: agent, Kind: string(o.Kind), By: by, Details: string(details), Created: time.Now()})
	}
	ids = map[string]uint64{}
	if len(rows) == 0 {
		return ids, func() {}, nil
	}
	if err := tx.CreateInBatches(&rows, 500).Error; err != nil {
		return nil, nil, err
	}
	for _, r := range rows {
		ids[r.AgentID] = r.ID
	}
	return ids, func() {
		for agent := range ids {
			d.wake(agent)
		}
	}, nil
}

// valueOf returns an order as it is spoken of.
func valueOf(o model.Order) client.Order {
	order := client.Order{ID: o.ID, By: o.By, Created: o.Created, Done: o.Done}
	json.Unmarshal([]byte(o.Details), &order.NewOrder) // Give wrote it
	order.Kind = client.OrderKind(o.Kind)
	if o.Done != nil {
		json.Unmarshal([]byte(o.Outcome), &order.Outcome) // Done wrote it
	}
	return order
}

// ErrUnknown says that there is no such order.
var ErrUnknown = errors.New("there is no such order")

// Find returns an order of an agent.
func (d *Desk) Find(ctx context.Context, agentID string, id uint64) (client.Order, error) {
	var o model.Order
	err := d.db.WithContext(ctx).Where("agent_id = ?", agentID).Take(&o, id).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrUnknown
	}
	return valueOf(o), err
}

// Done notes what came of an order. What came of it first stays.
func (d *Desk) Done(ctx context.Context, agentID string, id uint64, outcome client.Outcome) error {
	text, err := json.Marshal(outcome)
	if err != nil {
		return err
	}
	now := time.Now()
	return d.db.WithContext(ctx).Model(&model.Order{}).Where("id = ? AND agent_id = ? AND done IS NULL", id, agentID).Updates(model.Order{Done: &now, Outcome: string(text)}).Error
}

// Wait returns the orders of an agent that are not done, the oldest first. It
// waits for one, at the longest as long as given.
func (d *Desk) Wait(ctx context.Context, agentID string, longest time.Duration) ([]client.Order, error) {
	wake, stop := d.listen(agentID)
	defer stop()
	limit := time.NewTimer(longest)
	defer limit.Stop()
	for {
		var open []model.Order
		err := d.db.WithContext(ctx).Where("agent_id = ? AND done IS NULL AND created > ?", agentID, time.Now().Add(-LifeTime)).Order("id").Find(&open).Error
		if err != nil || len(open) > 0 {
			return valuesOf(open), err
		}
		select {
		case <-wake:
		case <-limit.C:
			return valuesOf(open), nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func valuesOf(all []model.Order) []client.Order {
	values := []client.Order{}
	for _, o := range all {
		values = append(values, valueOf(o))
	}
	return values
}

func (d *Desk) listen(agentID string) (wake chan struct{}, stop func()) {
	wake = make(chan struct{}, 1)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.waiting[agentID] = append(d.waiting[agentID], wake)
	return wake, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.waiting[agentID] = slices.DeleteFunc(d.waiting[agentID], func(c chan struct{}) bool { return c == wake })
		if len(d.waiting[agentID]) == 0 {
			delete(d.waiting, agentID)
		}
	}
}

func (d *Desk) wake(agentID string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.waiting[agentID] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// poll wakes those who wait for orders that another service took: one question
// to the database for all of them.
func (d *Desk) poll(ctx context.Context) {
	tick := time.NewTicker(pollTime)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		d.mu.Lock()
		nobody := len(d.waiting) == 0
		d.mu.Unlock()
		if nobody {
			continue
		}
		var agents []string
		d.db.WithContext(ctx).Model(&model.Order{}).Where("done IS NULL AND created > ?", time.Now().Add(-LifeTime)).Distinct().Pluck("agent_id", &agents)
		for _, id := range agents {
			d.wake(id)
		}
	}
}

// OutcomeOf tells what came of an order, nothing where it is not done.
func OutcomeOf(o model.Order) client.Outcome { return valueOf(o).Outcome }
