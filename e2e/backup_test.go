package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"oakbarrel/client"
	"oakbarrel/demo/mariadb"
)

// backup backs a running database up, as docs/scale.md says it.
func backup(t *testing.T, dir, to string) {
	t.Helper()
	for _, args := range [][]string{
		{"--backup", "--target-dir=" + to, "--user=root", "--password=lantern", "--socket=" + filepath.Join(dir, "m.sock"), "--datadir=" + filepath.Join(dir, "data")},
		{"--prepare", "--target-dir=" + to},
	} {
		if out, err := exec.Command("mariadb-backup", append([]string{"--no-defaults"}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
	}
}

// restore puts a backup in the place of a database.
func restore(t *testing.T, db *mariadb.Server, dir, from string) {
	t.Helper()
	db.Kill()
	data := filepath.Join(dir, "data")
	if err := os.RemoveAll(data); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mariadb-backup", "--no-defaults", "--copy-back", "--target-dir="+from, "--datadir="+data).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if err := db.Restart(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// Shelves are backed up one after the other while hosts send, and restored: what came since
// is sent again or told as lost, nothing is there twice, and feeds go on. A feed that began
// between the two backups is taken over.
func TestABackupOfShelvesIsRestored(t *testing.T) {
	t.Parallel()
	need(t, "mariadb-backup")
	for _, order := range []string{"first last", "first first"} {
		t.Run(order, func(t *testing.T) {
			s := newStore(t)
			north := s.addShelf("north")
			northDir, firstDir := filepath.Join(s.dir, "north"), filepath.Join(s.dir, "db")
			saved := t.TempDir()
			admin := s.token("*", "admin")
			hosts := map[string]*host{}
			tokens := map[string]string{}
			for cask, shelf := range map[string]string{"gateway": "north", "pumps": "first", "tickets": "north"} {
				tokens[cask] = s.token(cask, "write")
				if _, stderr, code := s.ask(admin, "cask", "set", cask, "--shelf", shelf); code != 0 {
					t.Fatal(stderr)
				}
			}
			begin := func(cask string) {
				hosts[cask] = s.host(cask, tokens[cask])
				hosts[cask].start()
			}
			send := func(first, last int) {
				for _, h := range hosts {
					h.sendNumbers(first, last)
					h.allDelivered()
				}
			}
			begin("gateway")
			begin("pumps")
			send(1, 100)
			saveNorth := func() { backup(t, northDir, filepath.Join(saved, "north")) }
			saveFirst := func() { backup(t, firstDir, filepath.Join(saved, "first")) }
			if order == "first first" {
				saveNorth, saveFirst = saveFirst, saveNorth
			}
			saveNorth()
			send(101, 200)
			begin("tickets")
			send(201, 210)
			saveFirst()
			send(211, 300)
			s.kill()
			restore(t, north, northDir, filepath.Join(saved, "north"))
			restore(t, s.db, firstDir, filepath.Join(saved, "first"))
			s.start()
			s.waitForLog(`msg="a shelf answers" shelf=north`)
			for cask, h := range hosts {
				h.sendNumbers(301, 400)
				h.within(slack*5, "all of "+cask+" is delivered", func() bool { return h.status().Outlets[0].Held == 0 })
			}
			for cask, all := range map[string]int64{"gateway": 400, "pumps": 400, "tickets": 200} {
				out, stderr, _ := s.ask(admin, "cask", "show", cask, "--output", "json")
				var of client.CaskAndFeeds
				if err := json.Unmarshal([]byte(out), &of); err != nil {
					t.Fatal(err, out, stderr)
				}
				var records, lost int64
				for _, f := range of.Feeds {
					records, lost = records+f.Records, lost+f.Lost
				}
				times, _ := s.stored(cask)
				if records+lost != all || int(records) != len(times) || times["400"] != 1 {
					t.Errorf("%s: %d records, %d lost, %d different", cask, records, lost, len(times))
				}
			}
			expect(t, 0, "north: in order, 2 feeds", "", "shelf", "check", "--database-file", s.database)
			expect(t, 0, "in order", "", "store", "check", "--database-file", s.database)
		})
	}
}
