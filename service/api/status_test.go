package api_test

import (
	"context"
	"strings"
	"testing"

	"oakbarrel/client"
)

// A status is what an agent has to say, and nothing else: what is not is refused, and
// what was said before stays.
func TestAStatusIsATypedThing(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	id := f.agent(1)
	good := client.AgentStatus{Host: "tide-gw", Status: client.Status{Host: "tide-gw"}}
	if _, err := f.writer(id).SendStatus(ctx, id, good); err != nil {
		t.Fatal(err)
	}
	for name, said := range map[string]any{
		"nothing":         nil,
		"a word":          "drained",
		"a list":          []int{1},
		"unknown names":   map[string]any{"outlets": []any{}, "script": "<script>"},
		"wrong types":     map[string]any{"outlets": 7},
		"more than fits":  client.Status{Host: strings.Repeat("x", client.MostStatus)},
		"far too much":    client.Status{Host: strings.Repeat("x", 5<<20)},
		"deeply nested":   strings.Repeat("[", 1000),
		"a nested object": map[string]any{"plan": map[string]any{"hash": map[string]any{}}},
	} {
		_, err := f.writer(id).SendStatus(ctx, id, client.AgentStatus{Host: "forged", Status: said})
		if !refusedWith(err, 422) && !(name == "far too much" && refusedWith(err, 413)) {
			t.Errorf("%s: %v", name, err)
		}
	}
	admin := f.session("admin")
	status, err := admin.Hosts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, h := range status {
		if h.AgentID == id && h.Name != "tide-gw" {
			t.Errorf("it is now %+v", h)
		}
	}
}
