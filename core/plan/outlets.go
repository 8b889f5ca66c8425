package plan

import (
	"fmt"
	"path/filepath"
	"strings"

	"oakbarrel/core/format"
	"oakbarrel/core/roll"
)

// path reads an absolute path of a file.
func (r *planReader) path(e entry, example string) string {
	s, ok := r.text(e, "an absolute path, such as "+example)
	if !ok {
		return ""
	}
	switch {
	case strings.ContainsFunc(s.text, func(c rune) bool { return c < ' ' || c == 0x7f }):
		r.fail(e.valueAt(), "the path holds a control character", "write a path without one")
	case !filepath.IsAbs(s.text):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is not absolute", shorten(s.text)), "begin it with /, so that it does not depend on where the agent is started")
	case strings.HasSuffix(s.text, "/"):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is a folder", shorten(s.text)), "add the name of a file, such as "+filepath.Base(example))
	default:
		return filepath.Clean(s.text)
	}
	return ""
}

func (r *planReader) readOutlets(e entry) {
	paths := map[string]entry{}
	for _, named := range r.names(e.value, e.at, "outlets", "outlets: {NAME: {file: {…}}}") {
		what := "outlet " + named.key
		out := Outlet{Name: named.key}
		r.outlets = append(r.outlets, out) // known to rules, also where it is faulty
		m, ok := r.mapping(named.value, named.at, what, "{file: {path: …, keep: …}}", "file", "store", "spool", "batch")
		if !ok {
			continue
		}
		file, isFile := m.get("file")
		store, isStore := m.get("store")
		switch {
		case isFile && isStore:
			r.fail(store.at, what+" is both a file and a store", "write two outlets")
		case isStore:
			r.readStore(m, store, &out)
			r.outlets[len(r.outlets)-1] = out
		case !isFile && !m.faulty:
			r.fail(named.at, what+" does not say what it is", "write file: {path: …, keep: …}, or store: {cask: …}")
		}
		if !isFile || isStore {
			continue
		}
		for _, key := range []string{"spool", "batch"} {
			if e, ok := m.get(key); ok {
				r.fail(e.at, fmt.Sprintf("a file has no %s", key), "take it away; it belongs to a store")
			}
		}
		pathAt := r.readFile(file, &out)
		r.outlets[len(r.outlets)-1] = out
		if first, twice := paths[out.File.Path]; twice && out.File.Path != "" {
			r.fail(pathAt, fmt.Sprintf("outlet %s writes to this path too", first.key), fmt.Sprintf("give each outlet a path of its own; the first is at line %d", first.at.Line))
		} else {
			paths[out.File.Path] = named
		}
	}
}

// readFile fills out and returns where its path stands.
func (r *planReader) readFile(e entry, out *Outlet) (pathAt Position) {
	m, ok := r.mapping(e.value, e.at, "file", "{path: /var/log/lantern/all.log, keep: {pieces: 20}}", "path", "format", "roll", "keep", "compress", "mode")
	if !ok {
		return e.at
	}
	out.Kind = "file"
	set := roll.Settings{Mode: 0o640, Compress: roll.NoCompression}
	if e, ok := m.require("path", "write path: /var/log/lantern/all.log"); ok {
		set.Path, pathAt = r.path(e, "/var/log/lantern/all.log"), e.valueAt()
		if i := strings.IndexAny(set.Path, "{}"); i >= 0 {
			r.fail(e.valueAt(), fmt.Sprintf("a path may not hold %q", set.Path[i]), "write the path of one file")
		}
	}
	out.Format, _ = format.Parse(format.Default)
	if e, ok := m.get("format"); ok {
		out.Format = r.readFormat(e)
	}
	if e, ok := m.get("roll"); ok {
		r.readRoll(e, &set)
	}
	if e, ok := m.require("keep", "say how long pieces stay: keep: {pieces: 20}, {days: 30}, {total: 2GiB}, or keep: forever"); ok {
		set.Keep = r.readKeep(e)
	}
	if e, ok := m.get("compress"); ok {
		set.Compress = roll.Compression(r.word(e, roll.Compressions))
	}
	if e, ok := m.get("mode"); ok {
		set.Mode = r.mode(e)
	}
	out.File = set
	return pathAt
}

func (r *planReader) readFormat(e entry) *format.Format {
	s, ok := r.text(e, "json, rfc5424, rfc3164, or a template such as '{time} {host} {app}: {text}'")
	if !ok {
		return nil
	}
	f, err := format.Parse(s.text)
	if problem, ok := err.(*format.Error); ok {
		r.fail(s.locate(problem.Offset), problem.What, problem.Mend)
	}
	return f
}

func (r *planReader) readRoll(e entry, set *roll.Settings) {
	m, ok := r.mapping(e.value, e.at, "roll", "roll: {size: 10MiB, every: day}", "size", "every")
	if !ok {
		return
	}
	if len(m.entries) == 0 && !m.faulty {
		r.fail(e.at, "roll says neither at which size nor how often", "write size: 10MiB, every: day, or both")
	}
	if e, ok := m.get("size"); ok {
		set.Size = r.size(e)
	}
	if e, ok := m.get("every"); ok {
		set.Every = r.every(e)
	}
}

func (r *planReader) readKeep(e entry) (keep roll.Keep) {
	if s, ok := r.scalarOf(e.value); ok {
		if !strings.EqualFold(s.text, "forever") {
			r.fail(e.valueAt(), fmt.Sprintf("keep cannot be %q", shorten(s.text)), "write keep: {pieces: 20}, {days: 30}, {total: 2GiB}, or keep: forever")
		}
		return keep
	}
	m, ok := r.mapping(e.value, e.at, "keep", "{pieces: 20, days: 30, total: 2GiB}, or forever", "pieces", "days", "total")
	if !ok {
		return keep
	}
	if len(m.entries) == 0 && !m.faulty {
		r.fail(e.at, "keep has no limit", "write pieces, days or total, or keep: forever")
	}
	if e, ok := m.get("pieces"); ok {
		keep.Pieces = r.count(e, "pieces")
	}
	if e, ok := m.get("days"); ok {
		keep.Days = r.count(e, "days")
	}
	if e, ok := m.get("total"); ok {
		keep.Total = r.size(e)
	}
	return keep
}
