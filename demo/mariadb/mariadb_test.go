package mariadb

import (
	"os"
	"path/filepath"
	"testing"
)

// Servers are set up side by side: none touches the folder for what is temporary that all
// programs share, where another one's start removes what it finds.
func TestAServerIsSetUpInItsFolderAlone(t *testing.T) {
	t.Setenv("TMPDIR", filepath.Join(t.TempDir(), "missing"))
	dir, err := os.MkdirTemp("/tmp", "ob") // the path of a socket is short
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	s, err := Start(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s.Stop()
	s.Stop()
	if _, err := os.Stat(filepath.Join(dir, "data.begun")); !os.IsNotExist(err) {
		t.Error(err)
	}
}

// What was broken off while it was made is made anew.
func TestASetUpThatWasBrokenOff(t *testing.T) {
	dir, err := os.MkdirTemp("/tmp", "ob")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.MkdirAll(filepath.Join(dir, "data.begun", "mysql"), 0o700); err != nil {
		t.Fatal(err)
	}
	s, err := Start(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s.Stop()
}
