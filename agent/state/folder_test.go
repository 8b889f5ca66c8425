package state

import (
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakbarrel/client"
)

func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

func openAt(t *testing.T, dir string) *Folder {
	t.Helper()
	f, err := Open(dir, quiet())
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// What is saved survives damage to one of its two files, whichever and however;
// where both are damaged that is told, and nothing else happens.
func TestWhatIsSavedSurvivesDamageToOneFile(t *testing.T) {
	damages := map[string]func(string) error{
		"emptied": func(p string) error { return os.WriteFile(p, nil, 0o600) },
		"cut":     func(p string) error { return os.Truncate(p, 7) },
		"changed": func(p string) error { return os.WriteFile(p, []byte("[\"kelp\"]\n#00000000\n"), 0o600) },
		"removed": os.Remove,
	}
	for name, damage := range damages {
		for _, which := range [][]string{{""}, {twinSuffix}, {"", twinSuffix}} {
			dir := t.TempDir()
			f := openAt(t, dir)
			if err := f.Save("facts.json", []string{"reef", "tide"}); err != nil {
				t.Fatal(err)
			}
			for _, suffix := range which {
				if err := damage(filepath.Join(dir, "facts.json"+suffix)); err != nil {
					t.Fatal(err)
				}
			}
			var got []string
			err := f.Load("facts.json", &got)
			switch {
			case len(which) == 1 && (err != nil || strings.Join(got, " ") != "reef tide"):
				t.Errorf("%s %q: %v, %v", name, which, got, err)
			case len(which) == 2 && name == "removed" && !errors.Is(err, fs.ErrNotExist):
				t.Errorf("both removed: %v", err)
			case len(which) == 2 && name != "removed" && !errors.Is(err, ErrDamaged):
				t.Errorf("both %s: %v", name, err)
			}
			if told := len(f.Damages()); name != "removed" && told != len(which) {
				t.Errorf("%s %q: %d damages are told", name, which, told)
			}
			f.Close()
		}
	}
}

// A folder is one agent's at a time, and its identity stays, also where one of its
// files is damaged.
func TestAFolderHasOneAgentAndOneIdentity(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	if _, known := ReadID(dir); known {
		t.Error("an agent is known that never was")
	}
	f := openAt(t, dir)
	id := f.AgentID()
	if _, err := Open(dir, quiet()); !errors.Is(err, ErrInUse) || !strings.Contains(err.Error(), dir) {
		t.Errorf("a second agent: %v", err)
	}
	f.Close()
	for _, name := range []string{IDFile, IDFile + twinSuffix} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("nonsense\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		f = openAt(t, dir)
		if f.AgentID() != id || len(f.Damages()) != 1 {
			t.Errorf("with %s damaged the id is %s, was %s; told is %+v", name, f.AgentID(), id, f.Damages())
		}
		f.Close()
	}
	if got, err := Identity(dir); err != nil || got != id {
		t.Errorf("%s %v", got, err)
	}
	if got, known := ReadID(dir); !known || got != id {
		t.Errorf("%s %v", got, known)
	}
}

// Of what was put aside the newest hundred are kept, each with its reason.
func TestWhatIsPutAsideIsBounded(t *testing.T) {
	dir := t.TempDir()
	f := openAt(t, dir)
	defer f.Close()
	for i := range mostDamaged + 20 {
		path := filepath.Join(dir, "bad.json")
		if err := os.WriteFile(path, []byte(strings.Repeat("x", i)), 0o600); err != nil {
			t.Fatal(err)
		}
		f.PutAside(client.Damage{Part: "agent", File: path, Cost: "nothing"})
	}
	aside := Aside(dir)
	if len(aside) != mostDamaged || len(f.Damages()) != mostDamaged {
		t.Fatalf("%d files, %d told", len(aside), len(f.Damages()))
	}
	b, _ := os.ReadFile(aside[len(aside)-1])
	why, err := os.ReadFile(aside[len(aside)-1] + ReasonSuffix)
	if len(b) != mostDamaged+19 || err != nil || !strings.Contains(string(why), "It cost: nothing") {
		t.Errorf("the newest has %d bytes, its reason is %q", len(b), why)
	}
}
