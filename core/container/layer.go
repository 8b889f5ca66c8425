package container

import (
	"cmp"
	"context"
	"io/fs"
	"path/filepath"
	"slices"
)

// mostEntries bounds how many files of a layer are looked at.
const mostEntries = 200_000

// Layer is what a container has written into its own file system.
type Layer struct {
	Bytes int64
	Files map[string]int64 // bytes by path in the container
	Whole bool             // all of it was looked at
}

// ReadLayer adds up what stands in a layer. It goes on where a file cannot be
// looked at: containers come and go.
func ReadLayer(ctx context.Context, folder string) (l Layer) {
	l.Files, l.Whole = map[string]int64{}, true
	filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		if ctx.Err() != nil || len(l.Files) >= mostEntries {
			l.Whole = false
			return fs.SkipAll
		}
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if st, err := e.Info(); err == nil {
			inside, _ := filepath.Rel(folder, path)
			l.Files["/"+inside] = st.Size()
			l.Bytes += st.Size()
		}
		return nil
	})
	return l
}

// Grown is a file of a layer that has grown.
type Grown struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Grown int64  `json:"grown"` // bytes
}

// Since returns the files that have grown since an earlier look, those that
// have grown most first, n at most.
func (l Layer) Since(before Layer, n int) (grown []Grown) {
	for path, bytes := range l.Files {
		if more := bytes - before.Files[path]; more > 0 {
			grown = append(grown, Grown{path, bytes, more})
		}
	}
	slices.SortFunc(grown, func(a, b Grown) int { return cmp.Or(cmp.Compare(b.Grown, a.Grown), cmp.Compare(a.Path, b.Path)) })
	return grown[:min(len(grown), n)]
}
