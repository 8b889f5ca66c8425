package api_test

import (
	"log/slog"
	"strings"
	"testing"

	"oakbarrel/client"
	"oakbarrel/service/access"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// back makes the tables what they were before tokens were bound and feeds had runs.
var back = []string{
	"DELETE FROM migrations WHERE id >= '0014'",
	"DROP TABLE identities, feed_runs, stores, joinings, shelves, moves",
	"ALTER TABLE casks DROP COLUMN shelf_id",
	"ALTER TABLE feeds DROP INDEX feed_key, DROP COLUMN cask_id, DROP COLUMN generation, DROP COLUMN base, DROP COLUMN run, DROP COLUMN link, DROP COLUMN came, DROP COLUMN shed, DROP COLUMN lost, DROP COLUMN refused, DROP COLUMN twice, DROP INDEX cask_shelf, DROP COLUMN shelf_id, DROP COLUMN fenced, ADD UNIQUE INDEX agent_outlet (agent_id, outlet)",
	"ALTER TABLE blocks DROP COLUMN twice, DROP COLUMN moving",
	"ALTER TABLE tokens DROP COLUMN invitation_id",
	"ALTER TABLE invitations DROP COLUMN uses, DROP COLUMN times",
	"ALTER TABLE views DROP PRIMARY KEY, DROP COLUMN owner, ADD PRIMARY KEY (name)",
}

// A database of the version before is taken over: feeds go on where they were, tokens
// and invitations are what they were for, and nothing is told as lost.
func TestADatabaseOfTheVersionBeforeIsTakenOver(t *testing.T) {
	old := emptyDatabase(t)
	fresh, err := model.Open(old, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	agent, file := strings.Repeat("a", 32), strings.Repeat("b", 32)
	for _, change := range append(back,
		"INSERT INTO casks (id, name, created) VALUES (7, 'reef', NOW())",
		"INSERT INTO agents (id, host) VALUES ('"+agent+"', 'reef-02')",
		"INSERT INTO feeds (id, agent_id, outlet, confirmed) VALUES (1, '"+agent+"', 'centre', 150), (2, '"+file+"', 'import', 40)",
		"INSERT INTO blocks (feed_id, first_number, last_number, cask_id, arrived, records) VALUES (1, 1, 150, 7, 1, 150), (2, 1, 40, 7, 1, 40)",
		"INSERT INTO tokens (id, hash, cask_id, may, agent_id, created) VALUES (3, UNHEX(SHA2('x', 256)), 7, 'write', '"+agent+"', NOW())",
		"INSERT INTO invitations (id, hash, cask_id, ends, used) VALUES (1, UNHEX(SHA2('used', 256)), 7, NOW() + INTERVAL 1 DAY, NOW()), (2, UNHEX(SHA2('waits', 256)), 7, NOW() + INTERVAL 1 DAY, NULL)",
		"INSERT INTO views (name, cask, since) VALUES ('tickets', '', '1h')",
	) {
		if err := fresh.Exec(change).Error; err != nil {
			t.Fatalf("%s: %v", change, err)
		}
	}
	db, err := model.Open(old, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	feeds := ingest.NewFeeds(t.Context(), shelf.New(db, slog.New(slog.DiscardHandler)), nil)
	lease, err := feeds.Lease(t.Context(), ingest.FeedKey{CaskID: 7, AgentID: agent, Outlet: "centre"}, client.Lease{Run: runID(1), First: 151, Confirmed: 150})
	if err != nil || lease.Fork != nil || lease.Confirmed != 150 || lease.Store == "" {
		t.Errorf("%+v, %v", lease, err)
	}
	if imported, err := feeds.Confirmed(t.Context(), ingest.FeedKey{CaskID: 7, AgentID: file, Outlet: "import", Generation: client.Imported}); err != nil || imported.Confirmed != 40 {
		t.Errorf("%+v, %v", imported, err)
	}
	var count int64
	if db.Model(&model.Feed{}).Count(&count); count != 2 {
		t.Errorf("there are %d feeds now", count)
	}
	if _, _, _, err := access.Accept(db, "used", strings.Repeat("c", 32), "", ""); err != access.ErrInvitation {
		t.Errorf("an invitation that was used: %v", err)
	}
	if _, _, _, err := access.Accept(db, "waits", agent, "", ""); err != access.ErrKnown {
		t.Errorf("for an agent that has a token: %v", err)
	}
	if token, _, _, err := access.Accept(db, "waits", strings.Repeat("c", 32), "kelp-01", ""); err != nil || token == "" {
		t.Error(err)
	}
	var view model.View
	if err := db.Take(&view, "name = 'tickets'").Error; err != nil || view.Owner != "" {
		t.Errorf("%+v, %v", view, err)
	}
}
