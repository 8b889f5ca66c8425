package search

import (
	"bytes"
	"context"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/condition"
)

// agent is one whose host is known by name.
type agent struct{ host []byte }

// name returns the name of the host, nil where it is not known.
func (a *agent) name() []byte {
	if a == nil {
		return nil
	}
	return a.host
}

// nameAgents notes of each block whose agent took its records in: the name of the host
// that the agent has told last, none for files that were imported. Blocks of agents that
// the condition rules out are left out.
func (q *Query) nameAgents(ctx context.Context, db *gorm.DB, heads []head) ([]head, error) {
	var feeds []uint64
	for _, h := range heads {
		feeds = append(feeds, h.FeedID)
	}
	slices.Sort(feeds)
	agents := map[uint64]*agent{}
	for some := range slices.Chunk(slices.Compact(feeds), 1000) {
		var rows []struct {
			ID   uint64
			Host string
		}
		err := db.WithContext(ctx).Table("feeds").Select("feeds.id, agents.host").Joins("JOIN agents ON agents.id = feeds.agent_id").Where("feeds.id IN ? AND agents.host <> ''", some).Find(&rows).Error
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			agents[r.ID] = &agent{[]byte(r.Host)}
		}
	}
	for i := range heads {
		heads[i].agent = agents[heads[i].FeedID]
	}
	if q.Condition == nil {
		return heads, nil
	}
	return slices.DeleteFunc(heads, func(h head) bool { return !q.Condition.Possible(ofAgent{h.agent.name()}) }), nil
}

// ofAgent is the contents of a block as its agent shows them.
type ofAgent struct{ name []byte }

func (a ofAgent) HasWord(uint64) bool              { return true }
func (a ofAgent) HasText(*condition.Searcher) bool { return true }
func (a ofAgent) HasValue(property string, v []byte) bool {
	return property != "agent" || bytes.EqualFold(a.name, v)
}
