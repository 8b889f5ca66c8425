package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/forecast"
	"oakbarrel/core/roll"
)

// LiveFiles returns the live files of a file outlet: one, or where its path
// has places, those that are there.
func (o Outlet) LiveFiles() []string {
	if o.Path == nil {
		return []string{o.File.Path}
	}
	return slices.DeleteFunc(roll.LiveFiles([]string{o.Path.Pattern()}), func(path string) bool { return !o.Path.Matches(path) })
}

// Sources returns the rolled sets of the plan, for a forecast.
func (p *Plan) Sources() []forecast.Source { return sources(p.Outlets, p.Tends) }

func sources(outlets []Outlet, tends []Tend) (all []forecast.Source) {
	for _, o := range outlets {
		if o.Kind != FileOutlet || o.File.Path == "" {
			continue
		}
		folder := filepath.Dir(o.File.Path)
		if o.Path != nil {
			folder = o.Path.Prefix()
		}
		all = append(all, forecast.Source{Name: o.Name, Settings: o.File, Paths: o.LiveFiles(), Folder: folder})
	}
	for _, t := range tends {
		if len(t.Paths) == 0 {
			continue
		}
		folder, _, _ := strings.Cut(filepath.Dir(t.Paths[0]), "*")
		all = append(all, forecast.Source{Name: t.Name, Settings: t.File, Paths: roll.LiveFiles(t.Paths), Folder: filepath.Clean(folder)})
	}
	return all
}

// checkDisks warns where what keep allows does not fit the disks. It is told
// at the outlet or tend that may take the most.
func (r *planReader) checkDisks() {
	report := forecast.Of(sources(r.outlets, r.tends), time.Now())
	for _, d := range report.Disks {
		if d.Fits || d.Ceiling == nil {
			continue
		}
		largest := int64(-1)
		var at Position
		for _, s := range report.Sets {
			if s.Disk == d.Folder && *s.Ceiling > largest {
				largest, at = *s.Ceiling, r.setsAt[s.Name]
			}
		}
		r.warn(at, fmt.Sprintf("keep allows %d MiB on the disk of %s, of which %d MiB are free and %d MiB are to stay free", *d.Ceiling>>20, d.Folder, d.Free>>20, d.Floor>>20), "lower keep, or roll sizes, or make room")
	}
}
