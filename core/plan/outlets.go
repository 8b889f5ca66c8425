package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"oakbarrel/core/disk"
	"oakbarrel/core/format"
	"oakbarrel/core/paths"
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
	case !r.isAbs(s.text):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is not absolute", shorten(s.text)), paths.HowAbsolute+", so that it does not depend on where the agent is started")
	case r.wrongPath(e.valueAt(), s.text):
	case r.here && strings.ContainsAny(s.text, paths.NotInNames):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is a pattern", shorten(s.text)), "write the name of one file")
	case strings.HasSuffix(s.text, "/") || strings.HasSuffix(s.text, paths.Separator):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is a folder", shorten(s.text)), "add the name of a file, such as "+filepath.Base(example))
	default:
		return filepath.Clean(s.text)
	}
	return ""
}

// isAbs tells whether a path is absolute: on this system, or where the plan may be for another
// one, on that.
func (r *planReader) isAbs(path string) bool {
	return paths.IsAbs(path) || !r.here && paths.IsAbsElsewhere(path)
}

// wrongPath adds a finding where the system does not take a path as it stands.
func (r *planReader) wrongPath(at Position, path string) bool {
	if !r.here {
		return false // where the plan is for, it is looked at
	}
	what, mend := paths.Wrong(path)
	if what != "" {
		r.fail(at, what, mend)
	}
	return what != ""
}

func (r *planReader) readOutlets(e entry) {
	at := map[string]entry{}
	for _, named := range r.names(e.value, e.at, "outlets", "outlets: {NAME: {file: {…}}}") {
		what := "outlet " + named.key
		out := Outlet{Name: named.key}
		r.outlets = append(r.outlets, out) // known to rules, also where it is faulty
		m, ok := r.mapping(named.value, named.at, what, "{file: {path: …, keep: …}}", append(keysOf(outletKinds), "spool", "batch")...)
		if !ok {
			continue
		}
		kind, ok := r.kindOf(m, named, what)
		if !ok {
			continue
		}
		out.Kind = OutletKind(kind.key)
		r.checkLacking(kind)
		if out.Kind != FileOutlet {
			r.readWaiting(m, &out)
			switch out.Kind {
			case StoreOutlet:
				r.readStore(kind, &out)
			case NotifyOutlet:
				r.readNotify(m, kind, &out)
			case StdoutOutlet:
				r.readStdout(m, kind, &out)
			case JournalOutlet:
				r.readJournalOutlet(kind, &out)
			case EventsOutlet:
				r.readEventsOutlet(kind, &out)
			default:
				r.readRemote(kind, &out)
			}
			r.outlets[len(r.outlets)-1] = out
			continue
		}
		for _, key := range []string{"spool", "batch"} {
			if e, ok := m.get(key); ok {
				r.fail(e.at, fmt.Sprintf("a file has no %s", key), "take it away; it belongs to an outlet that sends")
			}
		}
		pathAt := r.readFile(kind, &out)
		r.outlets[len(r.outlets)-1] = out
		for path, other := range at {
			if places := out.Path; places != nil && places.Matches(path) || r.placesOf(other) != nil && r.placesOf(other).Matches(out.File.Path) {
				r.fail(pathAt, fmt.Sprintf("outlet %s may write to the same file", other.key), fmt.Sprintf("give each outlet files of its own; the other is at %s", r.place(other.at)))
			}
		}
		if first, twice := at[paths.Key(out.File.Path)]; twice && out.File.Path != "" {
			r.fail(pathAt, fmt.Sprintf("outlet %s writes to this path too", first.key), fmt.Sprintf("give each outlet a path of its own; the first is at %s", r.place(first.at)))
		} else {
			at[paths.Key(out.File.Path)] = named
		}
	}
}

// kindOf returns the one key that says what an outlet is.
func (r *planReader) kindOf(m mapping, named entry, what string) (kind entry, ok bool) {
	for _, key := range keysOf(outletKinds) {
		e, found := m.get(key)
		switch {
		case found && ok:
			r.fail(e.at, fmt.Sprintf("%s is both %s and %s", what, kind.key, key), "write two outlets")
			return kind, false
		case found:
			kind, ok = e, true
		}
	}
	if !ok && !m.faulty {
		r.fail(named.at, what+" does not say what it is", "write file: {path: …, keep: …}, or store: {cask: …}; known are "+strings.Join(keysOf(outletKinds), ", "))
	}
	return kind, ok
}

// readFile fills out and returns where its path stands.
func (r *planReader) readFile(e entry, out *Outlet) (pathAt Position) {
	m, ok := r.mapping(e.value, e.at, "file", "{path: /var/log/lantern/all.log, keep: {pieces: 20}}", "path", "files", "open", "format", "roll", "names", "keep", "compress", "mode", "owner", "group", "sync")
	if !ok {
		return e.at
	}
	set := roll.Settings{Mode: 0o640, Compress: roll.NoCompression, Zone: r.reading.Zone, Floor: r.floor}
	if e, ok := m.require("path", "write path: /var/log/lantern/all.log"); ok {
		set.Path, pathAt = r.path(e, "/var/log/lantern/all.log"), e.valueAt()
		out.Path = r.readPlaces(e)
	}
	out.Format, _ = format.Parse(format.Default)
	if e, ok := m.get("format"); ok {
		out.Format = r.readFormat(e)
	}
	r.readSet(m, out.Name, &set, out)
	out.Files, out.Open = 1000, 100
	for key, to := range map[string]*int{"files": &out.Files, "open": &out.Open} {
		e, ok := m.get(key)
		if ok && out.Path == nil && !strings.Contains(set.Path, "{") {
			r.fail(e.at, fmt.Sprintf("%s is for a path with places, such as {app}", key), "take it away")
		} else if ok {
			*to = r.count(e, key)
		}
	}
	if e, ok := m.get("mode"); ok {
		r.checkLacking(e)
		set.Mode = r.mode(e)
	}
	r.readOwner(m, &set.Owner)
	if e, ok := m.get("sync"); ok {
		if word := r.word(e, []string{"never", "each", "1s"}); word != "never" {
			set.Sync = roll.Sync(word)
		}
	}
	if out.Format != nil {
		set.Format = out.Format
	}
	out.File = set
	return pathAt
}

// readOwner reads whom new files belong to.
func (r *planReader) readOwner(m mapping, o *disk.Owner) {
	if e, ok := m.get("owner"); ok {
		r.checkLacking(e)
		o.User, o.SetUser = r.account(e, "user", o, disk.UserID)
	}
	if e, ok := m.get("group"); ok {
		r.checkLacking(e)
		o.Group, o.SetGroup = r.account(e, "group", o, disk.GroupID)
	}
}

// placesOf returns the places in the path of an outlet, nil for none.
func (r *planReader) placesOf(outlet entry) *format.Path {
	for _, o := range r.outlets {
		if o.Name == outlet.key {
			return o.Path
		}
	}
	return nil
}

// readPlaces reads the places of a path, nil where it has none.
func (r *planReader) readPlaces(e entry) *format.Path {
	s, ok := r.scalarOf(e.value)
	if !ok {
		return nil
	}
	path, err := format.ParsePath(filepath.Clean(s.text))
	if problem, ok := err.(*format.Error); ok {
		r.fail(s.locate(problem.Offset), problem.What, problem.Mend)
	}
	return path
}

// account reads the name or the number of a user or a group. One that this
// machine does not have is missing when a file is to be given to it.
func (r *planReader) account(e entry, kind string, owner *disk.Owner, lookup func(string) (string, error)) (id int, ok bool) {
	v, ok := r.text(e, "the name of a "+kind)
	if !ok {
		return 0, false
	}
	if id, err := strconv.Atoi(v.text); err == nil && id >= 0 {
		return id, true
	}
	text, err := lookup(v.text)
	if err == nil {
		id, err = strconv.Atoi(text)
	}
	if err != nil {
		owner.Missing = kind + " " + v.text
		if r.here {
			r.warn(e.valueAt(), fmt.Sprintf("this machine has no %s %q, so that nothing can be written", kind, shorten(v.text)), "write the name of one that it has, or its number")
		}
	}
	return id, err == nil
}

// readSet reads how a set is rolled, kept and compressed.
func (r *planReader) readSet(m mapping, name string, set *roll.Settings, out *Outlet) {
	if e, ok := m.get("roll"); ok {
		r.readRoll(e, set)
	}
	if e, ok := m.get("names"); ok {
		set.Counted = r.word(e, nameForms) == "counted"
	}
	if e, ok := m.require("keep", "say how long pieces stay: keep: {pieces: 20}, {days: 30}, {total: 2GiB}, or keep: forever"); ok {
		r.readKeep(e, set, out)
		r.setsAt[name] = e.at
		if set.Counted && (set.Keep.Pieces == 0 || set.Keep.Pieces > roll.MostCounted) {
			r.fail(e.at, fmt.Sprintf("pieces with counted names are renamed at each roll, so there can be at most %d of them", roll.MostCounted), fmt.Sprintf("write keep: {pieces: 20}, or at most %d; or names: stamped", roll.MostCounted))
		}
	}
	if e, ok := m.get("compress"); ok {
		r.readCompress(e, set)
	}
}

var nameForms = []string{"stamped", "counted"}

// readCompress reads a compression, alone or with its level: {zstd: 9}.
func (r *planReader) readCompress(e entry, set *roll.Settings) {
	if _, ok := r.scalarOf(e.value); ok {
		set.Compress = roll.Compression(r.word(e, roll.Compressions))
		return
	}
	m, ok := r.mapping(e.value, e.at, "compress", "zstd, gzip or none, or with a level: {zstd: 9}", "zstd", "gzip")
	if !ok || m.faulty {
		return
	}
	if len(m.entries) != 1 {
		r.fail(e.at, "compress names one compression", "write {zstd: 9}, or {gzip: 6}")
		return
	}
	level := m.entries[0]
	set.Compress, set.Level = roll.Compression(level.key), r.count(level, "level")
	if most := set.Compress.MostLevel(); set.Level > most {
		r.fail(level.valueAt(), fmt.Sprintf("%s has the levels 1 to %d", level.key, most), fmt.Sprintf("write {%s: %d}", level.key, most))
	}
}

func (r *planReader) readFormat(e entry) *format.Format {
	s, ok := r.text(e, "json, rfc5424, rfc3164, or a template such as '{time} {host} {app}: {text}'")
	if !ok {
		return nil
	}
	f, err := format.Parse(s.text)
	if problem, ok := err.(*format.Error); ok {
		r.fail(s.locate(problem.Offset), problem.What, problem.Mend)
		return nil
	}
	for _, fault := range f.Faults() {
		r.warn(e.valueAt(), fault, "show, verify and compare read the files again, and cannot answer for it; or leave it so")
	}
	return f
}

func (r *planReader) readRoll(e entry, set *roll.Settings) {
	m, ok := r.mapping(e.value, e.at, "roll", "roll: {size: 10MiB, every: day}", "size", "every", "at", "names")
	if !ok {
		return
	}
	if len(m.entries) == 0 && !m.faulty {
		r.fail(e.at, "roll says neither at which size nor how often", "write size: 10MiB, every: day, or both; or at: start, for a file a run")
	}
	if e, ok := m.get("size"); ok {
		set.Size = r.size(e)
	}
	if e, ok := m.get("every"); ok {
		set.Every = r.every(e)
	}
	if e, ok := m.get("at"); ok {
		set.AtStart = r.word(e, []string{"start"}) == "start"
	}
	if e, ok := m.get("names"); ok {
		set.Counted = r.word(e, nameForms) == "counted"
	}
}

func (r *planReader) readKeep(e entry, set *roll.Settings, out *Outlet) {
	if s, ok := r.scalarOf(e.value); ok {
		if !strings.EqualFold(s.text, "forever") {
			r.fail(e.valueAt(), fmt.Sprintf("keep cannot be %q", shorten(s.text)), "write keep: {pieces: 20}, {days: 30}, {total: 2GiB}, or keep: forever")
		}
		return
	}
	m, ok := r.mapping(e.value, e.at, "keep", "{pieces: 20, days: 30, total: 2GiB}, or forever", "pieces", "days", "total", "until", "days_at_most", "hold")
	if !ok {
		return
	}
	keep := &set.Keep
	if e, ok := m.get("pieces"); ok {
		keep.Pieces = r.count(e, "pieces")
	}
	if e, ok := m.get("days"); ok {
		keep.Days = r.count(e, "days")
	}
	if e, ok := m.get("total"); ok {
		keep.Total = r.size(e)
	}
	if e, ok := m.get("days_at_most"); ok {
		keep.DaysAtMost = r.count(e, "days")
	}
	if e, ok := m.get("hold"); ok {
		set.Hold = r.bool(e)
		if set.Hold && keep.DaysAtMost > 0 {
			r.fail(e.at, "a set cannot be held and have pieces that may not stay", "take hold or days_at_most away")
		}
	}
	limited := keep.Pieces > 0 || keep.Days > 0 || keep.Total > 0 || keep.DaysAtMost > 0
	until, waits := m.get("until")
	if waits && out == nil {
		r.fail(until.at, "what others write is in no outlet, so it waits for none", "take until away")
	}
	if waits && out != nil {
		r.untils = append(r.untils, untilSource{until, len(r.outlets) - 1})
		switch {
		case r.floor == (disk.Floor{}):
			r.fail(until.at, "with until, pieces may stay without limit, and the plan keeps no space of the disk free", "write at the top: disk: {floor: 5%}")
		case !limited && !set.Hold && !m.faulty:
			r.warn(e.at, "until only holds pieces back, and nothing removes any", "write also pieces, days or total")
		}
	} else if !waits && !limited && !set.Hold && !m.faulty {
		r.fail(e.at, "keep has no limit", "write pieces, days or total, or keep: forever")
	}
}

// untilSource is the key until of an outlet, read once all outlets are known.
type untilSource struct {
	entry
	outlet int
}

// readUntils finds the outlets that pieces wait for.
func (r *planReader) readUntils() {
	for _, u := range r.untils {
		own := &r.outlets[u.outlet]
		for _, name := range r.texts(u.entry, "an outlet", "a list of outlets: until: [centre]") {
			at := positionOf(name.node)
			i := slices.IndexFunc(r.outlets, func(o Outlet) bool { return o.Name == name.text })
			switch {
			case i < 0:
				r.unknownOutlet(at, name.text)
			case i == u.outlet:
				r.fail(at, "an outlet cannot wait for itself", "name an outlet that sends to a store")
			case r.outlets[i].Kind == NotifyOutlet:
				r.fail(at, fmt.Sprintf("outlet %s keeps nothing, and owes nothing", name.text), "name an outlet that sends to a store")
			case r.outlets[i].Kind == FileOutlet:
				r.fail(at, fmt.Sprintf("outlet %s is a file, which owes nothing", name.text), "name an outlet that sends to a store")
			default:
				own.Until = append(own.Until, name.text)
			}
		}
	}
}

// readDisk reads how much of the disks is not written into.
func (r *planReader) readDisk(e entry) {
	m, ok := r.mapping(e.value, e.at, "disk", "disk: {floor: 5%}", "floor")
	if !ok {
		return
	}
	if e, ok := m.require("floor", "write disk: {floor: 5%}, or a size"); ok {
		r.floor = r.readFloor(e)
	}
}

func (r *planReader) readFloor(e entry) (f disk.Floor) {
	v, ok := r.text(e, "a share of the disk, such as 5%, or a size")
	if !ok {
		return f
	}
	if number, percent := strings.CutSuffix(v.text, "%"); percent {
		share, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if err != nil || share < 0 || share > 90 {
			r.fail(e.valueAt(), fmt.Sprintf("floor cannot be %q", shorten(v.text)), "write a share from 0% to 90%, such as 5%")
		}
		return disk.Floor{Percent: share}
	}
	if v.text == "0" {
		return f
	}
	return disk.Floor{Bytes: r.size(e)}
}
