package tail

import (
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"oakbarrel/core/paths"
)

func expect(t testing.TB, what string, got, want any) {
	t.Helper()
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%s:\n got %v\nwant %v", what, got, want)
	}
}

// A walk finds just the paths that a pattern fits.
func TestAPatternFindsWhatFitsIt(t *testing.T) {
	dir := t.TempDir()
	all := []string{"a.log", "b.txt", ".hidden.log", "x/a.log", "x/y/b.log", "x/y/z/c.log", "x/.git/d.log", "web-1/out.log", "web-2/out.log", "web-2/err.log"}
	for _, path := range all {
		os.MkdirAll(filepath.Join(dir, filepath.Dir(path)), 0o755)
		os.WriteFile(filepath.Join(dir, path), nil, 0o644)
	}
	os.Symlink("web-1", filepath.Join(dir, "web-3"))
	for pattern, want := range map[string]string{
		"*.log":            "a.log",
		".*.log":           ".hidden.log",
		"*":                "a.log b.txt",
		"**/*.log":         "a.log web-1/out.log web-2/err.log web-2/out.log x/a.log x/y/b.log x/y/z/c.log",
		"x/**/*.log":       "x/a.log x/y/b.log x/y/z/c.log",
		"x/**/y/*.log":     "x/y/b.log",
		"**/z/*.log":       "x/y/z/c.log",
		"web-[12]/out.log": "web-1/out.log web-2/out.log",
		"web-?/out.log":    "web-1/out.log web-2/out.log web-3/out.log",
		"web-2/*.log":      "web-2/err.log web-2/out.log",
		"nothing/*.log":    "",
	} {
		var found []string
		w := walk{folder: func(string) {}, trouble: func(string, error) {}, found: func(path, _ string, e fs.DirEntry) {
			if !e.IsDir() && e.Type()&fs.ModeSymlink == 0 {
				found = append(found, strings.TrimPrefix(path, dir+"/"))
			}
		}}
		w.pattern(filepath.Join(dir, pattern))
		slices.Sort(found)
		found = slices.Compact(found)
		expect(t, pattern, strings.Join(found, " "), want)
		for _, path := range all {
			if fits := paths.Match(filepath.Join(dir, pattern), filepath.Join(dir, path)); fits != slices.Contains(found, path) {
				t.Errorf("%s: that %s fits is %v", pattern, path, fits)
			}
		}
	}
}
