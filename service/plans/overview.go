package plans

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/forecast"
	"oakbarrel/service/model"
)

// quietTime is after how long without a word a host needs a look: an agent asks for
// orders each minute.
const quietTime = 90 * time.Second

// summaries returns what is shown of the statuses of agents, by agent.
func summaries(db *gorm.DB, agents []model.Agent) (map[string]client.Summary, error) {
	var rows []model.Agent
	if err := ofAgents(db, "id", agents).Select("id", "summary").Find(&rows).Error; err != nil {
		return nil, err
	}
	all := map[string]client.Summary{}
	for _, r := range rows {
		s := client.Summary{Troubles: []string{}, Disks: []forecast.Disk{}}
		json.Unmarshal([]byte(r.Summary), &s) // the service wrote it
		all[r.ID] = s
	}
	return all, nil
}

// Overview lists hosts in which all words of a search are found, those that need a person
// first, and at most so many as limit says; agents chooses them, nil for all.
func (s *Book) Overview(ctx context.Context, agents *gorm.DB, search string, limit int) (client.Overview, error) {
	all, err := s.Fleet(ctx, agents)
	if err != nil {
		return client.Overview{}, err
	}
	o := client.Overview{All: len(all), Hosts: []client.FleetHost{}}
	words := strings.Fields(strings.ToLower(search))
	for i := range all {
		if !hasWords(&all[i], words) {
			continue
		}
		o.Found++
		if needs(&all[i]) > 0 {
			o.Need++
		}
		o.Hosts = append(o.Hosts, all[i])
	}
	slices.SortStableFunc(o.Hosts, func(a, b client.FleetHost) int {
		return cmp.Or(cmp.Compare(needs(&b), needs(&a)), cmp.Compare(a.Host, b.Host))
	})
	o.Hosts = o.Hosts[:min(len(o.Hosts), limit)]
	return o, nil
}

// needs tells how much a host needs a person.
func needs(h *client.FleetHost) (n int) {
	if len(h.Summary.Troubles) > 0 {
		n += 2
	}
	if h.Drift != "" {
		n++
	}
	return n
}

// hasWords tells whether all words stand somewhere in what is shown of a host.
func hasWords(h *client.FleetHost, words []string) bool {
	if len(words) == 0 {
		return true
	}
	texts := append([]string{h.Host, h.AgentID, h.Drift, h.Version, planWords(h)}, h.Summary.Troubles...)
	for name, value := range h.Labels {
		texts = append(texts, name+"="+value)
	}
	text := strings.ToLower(strings.Join(texts, "\n"))
	return !slices.ContainsFunc(words, func(word string) bool { return !strings.Contains(text, word) })
}

// planWords names the plan of the service that a host has.
func planWords(h *client.FleetHost) string {
	switch {
	case !h.Served:
		return ""
	case h.Plan == "":
		return "no plan yet"
	}
	return fmt.Sprintf("%s %d", h.Plan, h.Revision)
}
