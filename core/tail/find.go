package tail

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"oakbarrel/core/disk"
)

// candidate is a file that a pattern finds.
type candidate struct {
	path string // as it is found
	real string // without links
	stat stat
}

// findAll finds the files, those that were written to first in front. Where names
// change while it looks, a file may be renamed from a name that comes to one that
// was looked at: it looks again until two times find the same. Else still is
// false, and it returns what was found at any time.
func (f *Follower) findAll() (found []candidate, reasons []File, still bool) {
	all, last := map[inode]candidate{}, map[string]inode(nil)
	for range 4 {
		begun := time.Now()
		var folders map[string]bool
		found, reasons, folders = f.find()
		if !changedSince(folders, begun.Add(-clockTick)) {
			return inOrder(found), reasons, true
		}
		names := map[string]inode{}
		for _, c := range found {
			names[c.path], all[c.stat.inode()] = c.stat.inode(), c
		}
		if last != nil && maps.Equal(names, last) {
			return inOrder(found), reasons, true
		}
		last = names
	}
	return inOrder(slices.Collect(maps.Values(all))), reasons, false
}

// inOrder sorts files by when they were written to last, and leaves out those
// that are found by several names.
func inOrder(found []candidate) (kept []candidate) {
	slices.SortFunc(found, func(a, b candidate) int {
		if order := a.stat.Written.Compare(b.stat.Written); order != 0 {
			return order
		}
		return cmp.Or(cmp.Compare(rolledAge(b.path), rolledAge(a.path)), cmp.Compare(b.path, a.path))
	})
	seen := map[inode]bool{}
	for _, c := range found {
		if key := c.stat.inode(); !seen[key] {
			kept = append(kept, c)
			seen[key] = true
		}
	}
	return kept
}

// clockTick is by how much the times of files may be behind.
const clockTick = 20 * time.Millisecond

// changedSince tells whether names changed in one of some folders since a time.
func changedSince(folders map[string]bool, since time.Time) bool {
	for dir := range folders {
		if st, err := disk.Stat(dir); err != nil || since.UnixNano() < disk.FactsOf(st).Changed {
			return true
		}
	}
	return false
}

// find walks through what the patterns find, and has the folders watched.
func (f *Follower) find() (found []candidate, reasons []File, folders map[string]bool) {
	folders = map[string]bool{}
	seen := map[string]bool{}
	hit := false
	f.over = 0
	known := sync.OnceValue(f.knownPaths)
	no := func(path string, size int64, why string) {
		reasons = append(reasons, File{Path: path, Size: size, State: NotRead, Why: why})
	}
	w := walk{
		folder: func(path string) { folders[path] = true },
		trouble: func(path string, err error) {
			if errors.Is(err, fs.ErrNotExist) {
				folders[disk.Existing(path)] = true // where it will be made
				return
			}
			no(path, 0, plainError(err))
		},
		found: func(path, real string, e fs.DirEntry) {
			hit = true
			if seen[path] || e.IsDir() {
				return
			}
			if len(seen) >= f.most && !known()[path] {
				f.over++
				return
			}
			seen[path] = true
			c, why := f.candidate(path, real, e)
			switch {
			case why == "" && f.excluded(path):
				no(path, c.stat.Size, "the plan excludes it")
			case why != "":
				no(path, c.stat.Size, why)
			default:
				found = append(found, c)
				folders[filepath.Dir(c.real)] = true
			}
		},
	}
	for _, p := range f.settings.Paths {
		hit = false
		w.pattern(p)
		if !hit {
			no(p, 0, "it finds no file")
		}
	}
	if f.over > 0 {
		no(f.settings.Paths[0], 0, f.crowded())
	}
	f.watch.folders(folders)
	return found, reasons, folders
}

// mostFiles is how many files one intake looks at; what it follows comes on top.
const mostFiles = 20_000

// crowded says that the patterns find too many files.
func (f *Follower) crowded() string {
	return fmt.Sprintf("its patterns find more than the %d files that one intake looks at: %d are passed by", f.most, f.over)
}

// knownPaths returns where the sources stand.
func (f *Follower) knownPaths() map[string]bool {
	known := map[string]bool{}
	for _, s := range f.sources {
		known[s.Path] = true
	}
	return known
}

// candidate looks at a path that was found, in a folder without links, and
// tells why the file cannot be followed.
func (f *Follower) candidate(path, real string, e fs.DirEntry) (c candidate, why string) {
	c = candidate{path: path, real: real}
	var err error
	if e.Type()&fs.ModeSymlink != 0 {
		if c.real, err = disk.Resolve(real); err != nil {
			return c, plainError(err)
		}
	}
	st, err := disk.FactsAt(c.real)
	switch {
	case err != nil:
		return c, plainError(err)
	case !st.Regular:
		return c, "it is not a regular file"
	}
	c.stat = stat{st}
	return c, ""
}

// plainError is an error without the path and the call, which are told beside it.
func plainError(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}
