// Package forecast tells how rolled sets will grow: what they take a day, how
// far back they reach, and when a disk is full.
//
// It looks at the files of the sets and changes nothing. It knows packages roll
// and disk and nothing else of the project. Its central type is [Report].
package forecast

import (
	"bytes"
	"math"
	"sort"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/roll"
)

// Source is what is to be forecast: the sets of an outlet, or of files that
// another program writes.
type Source struct {
	Name     string
	Settings roll.Settings
	Paths    []string // of the live files
	Folder   string   // in which they are, or will be
}

// Report is a forecast.
type Report struct {
	At    time.Time `json:"at"`
	Sets  []Set     `json:"sets"`
	Disks []Disk    `json:"disks"`
}

// Set tells of one source. Bytes are those on disk.
type Set struct {
	Name        string     `json:"name"`
	Files       int        `json:"files"` // rolled sets
	Pieces      int        `json:"pieces"`
	Bytes       int64      `json:"bytes"`         // pieces and live files
	BytesPerDay float64    `json:"bytes_per_day"` // what it grows by, before anything is removed
	Oldest      *time.Time `json:"oldest"`        // the time of the oldest record, nil where nothing is written
	WillReach   *float64   `json:"will_reach"`    // days back that keep lets it reach at this rate, nil for no bound
	Ceiling     *int64     `json:"ceiling"`       // bytes that keep lets it take at most, nil for no bound
	Disk        string     `json:"disk"`          // the folder that stands for it
}

// Disk tells of one disk.
type Disk struct {
	Folder      string     `json:"folder"` // one on it
	Size        int64      `json:"size"`
	Free        int64      `json:"free"`
	Floor       int64      `json:"floor"` // free bytes that are not written into
	BytesPerDay float64    `json:"bytes_per_day"`
	Full        *time.Time `json:"full"`    // when free space comes down to the floor, nil for not within ten years
	Ceiling     *int64     `json:"ceiling"` // what all its sets may take, nil where nothing bounds one of them
	Fits        bool       `json:"fits"`    // the ceiling, where there is one, fits the disk
}

// window is how far back rates are measured.
const window = 7 * 24 * time.Hour

// horizon is how far a forecast looks.
const horizon = 3650

// Of looks at the sets and returns their forecast.
func Of(sources []Source, now time.Time) Report {
	r := Report{At: now, Sets: []Set{}, Disks: []Disk{}}
	var growing [][]growth // of each disk
	devices := map[uint64]int{}
	for _, s := range sources {
		set, g := setOf(s, now)
		folder := disk.Existing(s.Folder)
		if st, err := disk.Stat(folder); err == nil {
			device := disk.FactsOf(st).Device
			i, known := devices[device]
			if !known {
				i = len(r.Disks)
				devices[device] = i
				r.Disks = append(r.Disks, diskOf(folder, s.Settings))
				growing = append(growing, nil)
			}
			set.Disk = r.Disks[i].Folder
			growing[i] = append(growing[i], g)
		}
		r.Sets = append(r.Sets, set)
	}
	for i := range r.Disks {
		r.Disks[i].add(growing[i], now)
	}
	return r
}

// growth is how a set grows: from what it has, by so much a day, to at most so much.
type growth struct{ bytes, perDay, most, ceiling float64 }

func (g growth) after(days float64) float64 {
	return max(g.bytes, min(g.bytes+g.perDay*days, g.most))
}

// setOf measures a source.
func setOf(s Source, now time.Time) (Set, growth) {
	set, inPieces := Set{Name: s.Name, Files: len(s.Paths)}, int64(0)
	for _, path := range s.Paths {
		m := measure(path, s.Settings.Format, now)
		set.Pieces += m.pieces
		set.Bytes += m.bytes
		inPieces += m.inPieces
		set.BytesPerDay += m.perDay
		if !m.oldest.IsZero() && (set.Oldest == nil || m.oldest.Before(*set.Oldest)) {
			oldest := m.oldest
			set.Oldest = &oldest
		}
	}
	files, piece := float64(max(1, len(s.Paths))), 0.0
	if set.Pieces > 0 {
		piece = float64(inPieces) / float64(set.Pieces)
	}
	most := reachable(s.Settings, set.BytesPerDay/files, piece) * files
	if !math.IsInf(most, 1) && set.BytesPerDay > 0 {
		reach := most / set.BytesPerDay
		set.WillReach = &reach
	}
	g := growth{bytes: float64(set.Bytes), perDay: set.BytesPerDay, most: most, ceiling: math.Inf(1)}
	if c := s.Settings.Ceiling(); c > 0 {
		c *= int64(files)
		set.Ceiling, g.ceiling = &c, float64(c)
	}
	return set, g
}

// reachable returns how many bytes a set comes to take at a rate, where pieces
// have a size.
func reachable(s roll.Settings, perDay, piece float64) float64 {
	most := math.Inf(1)
	if s.Hold {
		return most
	}
	if s.Keep.Total > 0 {
		most = float64(s.Keep.Total)
	}
	for _, days := range []int{s.Keep.Days, s.Keep.DaysAtMost} {
		if days > 0 {
			most = min(most, perDay*float64(days+1))
		}
	}
	if s.Keep.Pieces > 0 {
		switch {
		case piece > 0:
			most = min(most, piece*float64(s.Keep.Pieces+1))
		case s.Size > 0:
			most = min(most, float64(s.Size)*float64(s.Keep.Pieces+1))
		}
	}
	return most
}

// longTally is the size of a tally that is not read for a forecast; the times
// at which pieces were rolled then do.
const longTally = 4 << 20

// measured is what one rolled set has.
type measured struct {
	pieces   int
	bytes    int64
	inPieces int64
	perDay   float64
	oldest   time.Time
}

// shortest is the least time that tells a rate by pieces; a shorter one is
// measured with the live file.
const shortest = time.Minute

// measure measures the set at live: by its pieces of the last days, or by its
// live file where it has none.
func measure(live string, format roll.Format, now time.Time) (m measured) {
	pieces, _ := roll.Pieces(live)
	tally := &roll.Tally{}
	if st, err := disk.Stat(live + roll.TallySuffix); err == nil && st.Size() < longTally {
		tally, _ = roll.ReadTally(live)
	}
	lines := tally.ByName()
	began := time.Time{} // of what is measured
	var recent int64
	for i, p := range pieces {
		m.pieces++
		m.bytes += p.Size
		m.inPieces += p.Size
		start, size := time.Time{}, p.Size
		if l := lines[p.Name()]; l != nil && l.First != nil {
			start = *l.First
		}
		if start.IsZero() && i > 0 {
			start = pieces[i-1].Stamp
		}
		if start.IsZero() { // nobody knows since when it was written, so it is not counted
			start, size = p.Stamp, 0
		}
		if m.oldest.IsZero() || start.Before(m.oldest) {
			m.oldest = start
		}
		if p.Stamp.After(now.Add(-window)) {
			recent += size
			if began.IsZero() || start.Before(began) {
				began = start
			}
		}
	}
	ended := now
	if n := len(pieces); n > 0 && pieces[n-1].Stamp.Sub(began) >= shortest && recent > 0 {
		ended = pieces[n-1].Stamp // the live file is not compressed yet, and would count too much
	}
	if st, err := disk.Stat(live); err == nil {
		m.bytes += st.Size()
		born := disk.Made(live, st)
		if t, ok := firstTime(live, format); ok && t.Before(born) {
			born = t
		}
		if ended.Equal(now) {
			recent += st.Size()
			if began.IsZero() {
				began = born
			}
		}
		if st.Size() > 0 && m.oldest.IsZero() {
			m.oldest = born
		}
	}
	if span := ended.Sub(began); !began.IsZero() && span > 0 {
		m.perDay = float64(recent) / max(span.Hours()/24, 1.0/24/60)
	}
	return m
}

// firstTime returns the time of the first record of a file.
func firstTime(path string, format roll.Format) (time.Time, bool) {
	f, err := disk.OpenRead(path)
	if err != nil || format == nil {
		return time.Time{}, false
	}
	defer f.Close()
	b := make([]byte, 64<<10)
	n, _ := f.Read(b)
	line, _, whole := bytes.Cut(b[:n], []byte{'\n'})
	if !whole {
		return time.Time{}, false
	}
	return format.Time(line)
}

func diskOf(folder string, s roll.Settings) (d Disk) {
	d.Folder = folder
	if size, free, err := disk.Space(folder); err == nil {
		d.Size, d.Free, d.Floor = size, free, s.Floor.Of(size)
	}
	return d
}

// add tells when the disk is full, and whether what may be kept fits.
func (d *Disk) add(sets []growth, now time.Time) {
	used, ceiling := 0.0, 0.0
	for _, g := range sets {
		d.BytesPerDay += g.perDay
		used += g.bytes
		ceiling += g.ceiling
	}
	if !math.IsInf(ceiling, 1) {
		c := int64(ceiling)
		d.Ceiling = &c
	}
	d.Fits = ceiling <= float64(d.Free-d.Floor)+used || math.IsInf(ceiling, 1)
	left := float64(d.Free - d.Floor)
	full := sort.Search(horizon*24, func(hour int) bool {
		grown := -used
		for _, g := range sets {
			grown += g.after(float64(hour) / 24)
		}
		return grown >= left
	})
	if full < horizon*24 {
		at := now.Add(time.Duration(full) * time.Hour)
		d.Full = &at
	}
}
