package roll

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// tended is a file of another program, in a folder of its own.
func tendedFile(t *testing.T, text string) string {
	live := filepath.Join(t.TempDir(), "kiosk.log")
	if err := os.WriteFile(live, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return live
}

func openTended(t *testing.T, live string, settle time.Duration, now func() time.Time) *Tended {
	t.Helper()
	set, err := OpenTended(Settings{Path: live, Size: 5, Mode: 0o640, Compress: Gzip, Keep: Keep{Pieces: 3}}, settle, false, now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { set.Close() })
	return set
}

func readSet(t *testing.T, live string) (all string) {
	t.Helper()
	r, err := NewReader(live, false)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for i := range r.Files() {
		if err := r.Lines(i, func(line []byte) error { all += string(line) + "\n"; return nil }); err != nil {
			t.Fatal(err)
		}
	}
	return all
}

func TestARenamedFileIsLeftAloneWhileItsProgramWrites(t *testing.T) {
	live := tendedFile(t, "one\n")
	program, err := os.OpenFile(live, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		t.Fatal(err)
	}
	program.WriteString("two\n")
	now := time.Now()
	set := openTended(t, live, time.Minute, func() time.Time { return now })
	if due, why, err := set.Due(); !due || err != nil {
		t.Fatal(due, why, err)
	}
	piece, err := set.Rename()
	if err != nil {
		t.Fatal(err)
	}
	tidy := func() {
		if err := set.Tidy(context.Background(), func(Removal) {}); err != nil {
			t.Fatal(err)
		}
	}
	program.WriteString("three, before it opens its file again\n")
	now = now.Add(2 * time.Minute) // settled, but for the program
	tidy()
	if !set.Unsettled() {
		t.Fatal("it is closed while the program has it open")
	}
	program.Close()
	os.WriteFile(live, []byte("four\n"), 0o644)
	tidy()
	if _, err := os.Stat(piece + ".gz"); err != nil || set.Unsettled() {
		t.Error(err)
	}
	if got := readSet(t, live); got != "one\ntwo\nthree, before it opens its file again\nfour\n" {
		t.Error(got)
	}
	if v, err := Verify(context.Background(), live, ""); err != nil || !v.OK || v.Records != 3 {
		t.Errorf("%+v, %v", v, err)
	}
}

func TestARenamedFileSettlesFirst(t *testing.T) {
	live := tendedFile(t, "one\ntwo\n")
	now := time.Now()
	set := openTended(t, live, time.Minute, func() time.Time { return now })
	if _, err := set.Rename(); err != nil {
		t.Fatal(err)
	}
	set.Tidy(context.Background(), func(Removal) {})
	if !set.Unsettled() {
		t.Error("it is closed at once")
	}
}

func TestACopyLeavesTheFileInItsPlace(t *testing.T) {
	live := tendedFile(t, "one\ntwo\n")
	program, _ := os.OpenFile(live, os.O_WRONLY|os.O_APPEND, 0)
	defer program.Close()
	set := openTended(t, live, 0, time.Now)
	_, window, err := set.Copy()
	if err != nil || window <= 0 || window > time.Second {
		t.Fatal(window, err)
	}
	program.WriteString("three\n")
	set.Tidy(context.Background(), func(Removal) {})
	if got := readSet(t, live); got != "one\ntwo\nthree\n" {
		t.Error(got)
	}
	if due, why, _ := set.Due(); !due {
		t.Error(why)
	}
}

func TestACopyWhoseOriginalWasNotCutIsDropped(t *testing.T) {
	live := tendedFile(t, "one\ntwo\n")
	copied := pieceName(live, time.Now(), 1)
	os.WriteFile(copied, []byte("one\n"), 0o644) // killed between the copy and the cut
	openTended(t, live, 0, time.Now)
	if got := readSet(t, live); got != "one\ntwo\n" {
		t.Error(got)
	}
	os.WriteFile(copied, []byte("zero\n"), 0o644) // killed behind the cut
	openTended(t, live, 0, time.Now)
	if got := readSet(t, live); got != "zero\none\ntwo\n" {
		t.Error(got)
	}
}

func TestLinksAreLeftAlone(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	os.WriteFile(secret, []byte("not for anybody\n"), 0o600)
	for name, link := range map[string]func(string) error{
		"symbolic": func(path string) error { return os.Symlink(secret, path) },
		"hard":     func(path string) error { return os.Link(secret, path) },
		"pipe":     func(path string) error { return unix.Mkfifo(path, 0o600) },
	} {
		live := tendedFile(t, "x\n")
		set := openTended(t, live, 0, time.Now)
		os.Remove(live)
		if err := link(live); err != nil {
			t.Fatal(err)
		}
		if _, _, err := set.Due(); err == nil || !strings.Contains(err.Error(), "left alone") {
			t.Errorf("%s: due says %v", name, err)
		}
		if _, _, err := set.Copy(); err == nil {
			t.Errorf("%s: it is copied and cut", name)
		}
		if _, err := set.Rename(); err == nil {
			t.Errorf("%s: it is renamed", name)
		}
	}
	if text, _ := os.ReadFile(secret); string(text) != "not for anybody\n" {
		t.Errorf("the secret is %q", text)
	}
}

func TestAFolderThatIsReplacedIsNotFollowed(t *testing.T) {
	live := tendedFile(t, "one\ntwo\n")
	dir := filepath.Dir(live)
	set := openTended(t, live, 0, time.Now)
	elsewhere := t.TempDir()
	os.WriteFile(filepath.Join(elsewhere, "kiosk.log"), []byte("of somebody else\n"), 0o600)
	os.Rename(dir, dir+"-moved")
	if err := os.Symlink(elsewhere, dir); err != nil {
		t.Fatal(err)
	}
	if _, _, err := set.Copy(); err != nil {
		t.Fatal(err)
	}
	set.Tidy(context.Background(), func(Removal) {})
	if text, _ := os.ReadFile(filepath.Join(elsewhere, "kiosk.log")); string(text) != "of somebody else\n" {
		t.Errorf("%q", text)
	}
	if files, _ := os.ReadDir(elsewhere); len(files) != 1 {
		t.Errorf("%v", files)
	}
	if _, err := OpenTended(Settings{Path: live}, 0, false, time.Now); err == nil || !strings.Contains(err.Error(), "symbolic link") {
		t.Errorf("a folder that is a link is opened: %v", err)
	}
}
