package plan

import (
	"io/fs"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
)

// Pipes says which named pipes an intake makes, in the place of files that
// programs insist on.
type Pipes struct {
	Paths []string
	Mode  fs.FileMode
	Owner disk.Owner
	Lines lines.Settings
	Wait  time.Duration // for the end of a last line
	Text  string        // the settings as the plan has them
}

func (r *planReader) readPipes(e entry, in *Intake, opened map[string]Position) {
	p := &Pipes{Text: e.value.String(), Mode: 0o620}
	in.Pipes = p
	m, ok := r.mapping(e.value, e.at, "pipes", "{paths: [/run/gate/app.log]}", append([]string{"paths", "mode", "owner", "group"}, lineKeys...)...)
	if !ok {
		return
	}
	if e, ok := m.require("paths", "write paths: [/run/gate/app.log]"); ok {
		for _, s := range r.texts(e, "a path", "paths: [/run/gate/app.log]") {
			one := entry{"path", positionOf(s.node), s.node}
			path := r.path(one, "/run/gate/app.log")
			r.openOnce(entry{"pipes", one.at, s.node}, path, opened)
			p.Paths = append(p.Paths, path)
		}
	}
	if e, ok := m.get("mode"); ok {
		p.Mode = r.mode(e)
	}
	r.readOwner(m, &p.Owner)
	r.readLines(m, &p.Lines)
	p.Wait = r.waitOf(m)
}
