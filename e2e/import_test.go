package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"oakbarrel/client"
	"oakbarrel/client/importer"
)

// imported runs an import and returns what it tells.
func imported(t *testing.T, args ...string) (all []importer.Result) {
	t.Helper()
	out, stderr, code := run(t, append([]string{"import", "--output", "json"}, args...)...)
	if err := json.Unmarshal([]byte(out), &all); err != nil || code != 0 {
		t.Fatalf("exit code %d: %s%s", code, out, stderr)
	}
	return all
}

func (s *store) count(cask string) int64 {
	s.t.Helper()
	out, stderr, code := run(s.t, "count", "--cask", cask, "--since", "20000d", "--output", "json")
	var counts client.Counts
	if err := json.Unmarshal([]byte(out), &counts); err != nil || code != 0 {
		s.t.Fatalf("exit code %d: %s%s", code, out, stderr)
	}
	return counts.Total
}

// Files come into the store plain and compressed, once, with what their lines
// name; what was read from one cask comes as it was into another.
func TestFilesAreImported(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.token("reef", "write")
	s.token("copy", "write")
	setenv(t, "OAKBARREL_URL", s.url())
	write, read := s.token("*", "import"), s.token("*", "read")
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	var b strings.Builder
	for i := range 45_000 {
		fmt.Fprintf(&b, "2026-11-%02dT10:%02d:%02dZ %s pump %d at %d rpm\n", 1+i/10000, i/60%60, i%60, []string{"INFO", "WARN", "ERROR"}[i%3], i%7, 1400+i%90)
	}
	b.WriteString("the last line has no time and no end")
	os.WriteFile(path("plain.log"), []byte(b.String()), 0o644)
	os.WriteFile(path("other.log"), []byte(b.String()+" but this"), 0o644)
	exec.Command("gzip", "-k", path("plain.log")).Run()
	exec.Command("zstd", "-q", path("other.log"), "-o", path("other.log.zst")).Run()

	setenv(t, "OAKBARREL_TOKEN", write)
	got := imported(t, "--cask", "reef", "--app", "pumpd", "--host", "reef-02", path("plain.log"), path("plain.log.gz"), path("other.log.zst"))
	if again := imported(t, "--cask", "reef", "--app", "pumpd", "--host", "reef-02", path("**/plain.log*")); len(again) != 2 || again[0].Already != 45_001 || again[1].Already != 45_001 {
		t.Errorf("of a pattern: %+v", again)
	}
	for i, already := range []int64{0, 45_001, 0} {
		if r := got[i]; r.Records != 45_001 || r.Already != already || r.Fell.Time != 1 {
			t.Errorf("%+v, want %d that were there already", r, already)
		}
	}
	setenv(t, "OAKBARREL_TOKEN", read)
	if n := s.count("reef"); n != 90_002 {
		t.Errorf("%d records are in the store", n)
	}
	export := func(cask string) string {
		out, stderr, code := run(t, "read", "--cask", cask, "--since", "20000d", "--oldest-first", "--limit", "0", "--output", "json")
		if code != 0 {
			t.Fatal(stderr)
		}
		return out
	}
	exported := export("reef")
	if first, _, _ := strings.Cut(exported, "\n"); !strings.HasPrefix(first, `{"time":"2026-11-01T10:00:00Z",`) || !strings.Contains(first, `"severity":"info","host":"reef-02","app":"pumpd","text":"2026-11-01T10:00:00Z INFO pump 0 at 1400 rpm"`) {
		t.Error(first)
	}
	os.WriteFile(path("exported"), []byte(exported), 0o644)
	setenv(t, "OAKBARREL_TOKEN", write)
	imported(t, "--cask", "copy", "--decode", "record", path("exported"))
	setenv(t, "OAKBARREL_TOKEN", read)
	if strings.Join(sortedLines(export("copy")), "\n") != strings.Join(sortedLines(exported), "\n") {
		t.Error("what was exported and imported is not the same")
	}
	expect(t, 3, "", "the token may read, not import files", "import", "--cask", "reef", path("exported"))
	expect(t, 3, "", "no such file", "import", "--cask", "reef", path("missing"))
	expect(t, 2, "", "--decode cannot be", "import", "--cask", "reef", "--decode", "jsn", path("exported"))
}

// An import that is killed, and whose service is killed, goes on where it was.
func TestAnImportThatBrokeOffGoesOn(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	setenv(t, "OAKBARREL_URL", s.url())
	write, read := s.token("reef", "import"), s.token("reef", "read")
	setenv(t, "OAKBARREL_TOKEN", write)
	file := filepath.Join(t.TempDir(), "big.log")
	var b strings.Builder
	const records = 600_000
	for i := range records {
		fmt.Fprintf(&b, "2026-11-25T10:15:00Z INFO record %d\n", i)
	}
	os.WriteFile(file, []byte(b.String()), 0o644)
	begin := func() *exec.Cmd {
		c := exec.Command(binary, "import", "--cask", "reef", file)
		c.Env = environmentOf(t)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		return c
	}
	c := begin()
	setenv(t, "OAKBARREL_TOKEN", read)
	for end := time.Now().Add(20 * time.Second); s.count("reef") == 0 && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
	}
	c.Process.Kill()
	c.Wait()
	setenv(t, "OAKBARREL_TOKEN", write)
	c = begin()
	time.Sleep(200 * time.Millisecond)
	s.kill()
	time.Sleep(300 * time.Millisecond)
	s.start()
	if err := c.Wait(); err != nil {
		t.Error(err)
	}
	again := imported(t, "--cask", "reef", file)
	setenv(t, "OAKBARREL_TOKEN", read)
	if n := s.count("reef"); n != records || again[0].Already != records {
		t.Errorf("%d records are there, and %+v", n, again)
	}
	expect(t, 0, "in order", "", "store", "check", "--database-file", s.database)
}

// Events of Windows come into the store from event files and from XML, as it exports them, on any machine.
func TestEventsAreImported(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	setenv(t, "OAKBARREL_URL", s.url())
	write, read := s.token("tickets", "import"), s.token("tickets", "read")
	const events = `<?xml version="1.0" encoding="utf-16"?><Events><Event><System><Provider Name='door-badge'/><EventID>4</EventID><Level>3</Level><TimeCreated SystemTime='2026-11-20T10:00:00.5Z'/><Channel>Lantern</Channel><Computer>tide-gw</Computer></System>` +
		`<RenderingInfo><Message>The badge of gate ä is worn.</Message></RenderingInfo></Event><Event><System><Provider Name='door-badge'/><EventID>5</EventID></System></Event></Events>`
	var utf16le []byte // the low byte first
	for _, unit := range utf16.Encode([]rune("\ufeff" + events)) {
		utf16le = append(utf16le, byte(unit), byte(unit>>8))
	}
	xml := filepath.Join(t.TempDir(), "badges.xml")
	if err := os.WriteFile(xml, utf16le, 0o644); err != nil {
		t.Fatal(err)
	}
	const sample = "../core/event/testdata/sales.evtx"
	setenv(t, "OAKBARREL_TOKEN", write)
	packed := filepath.Join(t.TempDir(), "sales.evtx.gz")
	if out, err := exec.Command("sh", "-c", "gzip -c "+sample+" > "+packed).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if r := imported(t, "--cask", "tickets", "--decode", "events", packed)[0]; r.Records != 100 || r.Already != 0 {
		t.Errorf("compressed: %+v", r)
	}
	for _, already := range [][]int64{{100, 0}, {100, 2}} { // the one was brought as it is compressed
		for i, r := range imported(t, "--cask", "tickets", "--decode", "events", sample, xml) {
			if want := []int64{100, 2}[i]; r.Records != want || r.Already != already[i] || r.Fell.Form != 0 {
				t.Errorf("%+v, want %d records", r, want)
			}
		}
	}
	setenv(t, "OAKBARREL_TOKEN", read)
	for condition, want := range map[string]string{
		"app is ticketd and field event@32473.record is 7": `"facility":"daemon","severity":"error","host":"kelp-01","app":"ticketd","procid":"412","msgid":"7","text":"1=\"sold 7\" 2=second"`,
		"app is door-badge and msgid is 4":                 `"facility":"daemon","severity":"warning","host":"tide-gw","app":"door-badge","msgid":"4","text":"The badge of gate ä is worn."`,
	} {
		out, stderr, code := run(t, "read", "--cask", "tickets", "--since", "20000d", "--output", "json", "--where", condition)
		if code != 0 || strings.Count(out, "\n") != 1 || !strings.Contains(out, want) || strings.Contains(out, `"raw"`) {
			t.Errorf("%s: %d: %s%s", condition, code, out, stderr)
		}
	}
}
