package paths

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// What is found is just what fits.
func TestAPatternFindsWhatFitsIt(t *testing.T) {
	dir := t.TempDir()
	all := []string{"a.log", "b.txt", ".hidden.log", "x/a.log", "x/y/b.log", "x/y/z/c.log", "x/.git/d.log", "web-1/out.log", "web-2/out.log", "web-[3]/out.log"}
	for _, path := range all {
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(path)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, path), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for pattern, want := range map[string]string{
		"*.log":               "a.log",
		".*.log":              ".hidden.log",
		"**/*.log":            "a.log web-1/out.log web-2/out.log web-[3]/out.log x/a.log x/y/b.log x/y/z/c.log",
		"x/**/y/*.log":        "x/y/b.log",
		"**/**/c.log":         "x/y/z/c.log",
		"web-[12]/out.log":    "web-1/out.log web-2/out.log",
		`web-\[*/out.log`:     "web-[3]/out.log",
		"nothing/*.log":       "",
		"x/.git/*.log":        "x/.git/d.log",
		"**/nothing/**/*.log": "",
	} {
		var found []string
		for _, path := range Find(filepath.Join(dir, pattern)) {
			if st, err := os.Stat(path); err == nil && st.Mode().IsRegular() {
				found = append(found, strings.TrimPrefix(path, dir+"/"))
			}
		}
		if got := strings.Join(found, " "); got != want {
			t.Errorf("%s: got %s, want %s", pattern, got, want)
		}
		for _, path := range all {
			if fits := Match(filepath.Join(dir, pattern), filepath.Join(dir, path)); fits != slices.Contains(found, path) {
				t.Errorf("%s: that %s fits is %v", pattern, path, fits)
			}
		}
	}
}

// A link that leads back is not walked in a circle.
func TestASearchEndsWhereALinkLeadsBack(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "a.log"), nil, 0o644)
	os.Symlink(dir, filepath.Join(dir, "back"))
	if found := Find(filepath.Join(dir, "**/*.log")); len(found) != 1 {
		t.Errorf("found %q", found)
	}
}

func TestWhatIsWrongWithAPatternIsTold(t *testing.T) {
	for pattern, want := range map[string]error{"/srv/*.log": nil, "/srv/**/x": nil, "/srv/[a.log": ErrBracket, "/srv/a**/x": ErrDeep} {
		if got := Check(pattern); got != want {
			t.Errorf("%s: %v, want %v", pattern, got, want)
		}
	}
}

func FuzzMatch(f *testing.F) {
	f.Add("/srv/**/*.log", "/srv/a/b.log")
	f.Add("/[a-", "/x")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		if len(pattern)+len(path) > 200 || strings.Count(pattern, "**") > 4 {
			return // a plan's author writes them
		}
		if Match(pattern, path) && Check(pattern) == nil && !strings.Contains(pattern, "*") && strings.Count(pattern, "/") != strings.Count(path, "/") {
			t.Errorf("%q fits %q", path, pattern)
		}
	})
}

func TestWhereAPathLeads(t *testing.T) {
	for path, want := range map[string]string{
		"/var/log/a.log": "/var/log/a.log", "/var/log/*.log": "/var/log", "/var/log/{host}/x": "/var/log", "/var/{app}.log": "/var", "/**": "", "/a/b[12]/c": "/a",
	} {
		if got := Literal(filepath.FromSlash(path)); got != filepath.FromSlash(want) {
			t.Errorf("%s leads to %q, want %q", path, got, want)
		}
	}
	for _, in := range [][2]string{{"/var/log", "/var/log"}, {"/var/log/x/y", "/var/log"}, {"/x", "/"}} {
		if !IsIn(filepath.FromSlash(in[0]), filepath.FromSlash(in[1])) {
			t.Errorf("%v", in)
		}
	}
	for _, out := range [][2]string{{"/var/log2", "/var/log"}, {"/var", "/var/log"}, {"", "/var"}} {
		if IsIn(out[0], out[1]) {
			t.Errorf("%v", out)
		}
	}
}
