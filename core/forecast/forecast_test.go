package forecast

import (
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/roll"
)

// set makes pieces of a kilobyte, one each hour up to now, and returns their source.
func set(t *testing.T, pieces int, now time.Time, s roll.Settings) Source {
	dir := t.TempDir()
	s.Path = filepath.Join(dir, "all.log")
	for i := range pieces {
		name := filepath.Join(dir, "all-"+now.Add(-time.Duration(pieces-1-i)*time.Hour).UTC().Format("20060102T150405Z")+".log")
		if err := os.WriteFile(name, []byte(strings.Repeat("x", 1023)+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return Source{Name: "all", Settings: s, Paths: []string{s.Path}, Folder: dir}
}

func near(got, want float64) bool { return math.Abs(got-want) <= want/50 }

func TestRatesAreMeasuredByThePieces(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	r := Of([]Source{set(t, 25, now, roll.Settings{Keep: roll.Keep{Pieces: 48, Days: 3}, Size: 2048})}, now)
	s := r.Sets[0]
	if !near(s.BytesPerDay, 24*1024) || s.Pieces != 25 || s.Bytes != 25*1024 || !s.Oldest.Equal(now.Add(-24*time.Hour)) {
		t.Errorf("%+v", s)
	}
	if s.WillReach == nil || !near(*s.WillReach, 49.0/24) || *s.Ceiling != 49*2048 {
		t.Errorf("will reach %v days, at most %v bytes", *s.WillReach, *s.Ceiling)
	}
	d := r.Disks[0]
	if !near(d.BytesPerDay, 24*1024) || *d.Ceiling != 49*2048 || !d.Fits || d.Full != nil || d.Free <= 0 || d.Size < d.Free {
		t.Errorf("%+v", d)
	}
}

func TestKeepBoundsWhatASetReaches(t *testing.T) {
	for _, c := range []struct {
		keep   roll.Keep
		size   int64
		perDay float64
		piece  float64
		want   float64
	}{
		{roll.Keep{}, 100, 10, 50, math.Inf(1)}, {roll.Keep{Total: 500}, 100, 10, 50, 500}, {roll.Keep{Days: 9}, 100, 10, 50, 100}, {roll.Keep{Pieces: 9}, 100, 10, 50, 500},
		{roll.Keep{Pieces: 9}, 100, 10, 0, 1000}, {roll.Keep{Pieces: 9}, 0, 10, 0, math.Inf(1)}, {roll.Keep{Days: 99, DaysAtMost: 4, Total: 70}, 0, 10, 0, 50},
	} {
		if got := reachable(roll.Settings{Keep: c.keep, Size: c.size}, c.perDay, c.piece); got != c.want {
			t.Errorf("%+v: %v, want %v", c, got, c.want)
		}
	}
}

func TestADiskIsFullWhenItsFloorIsReached(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return now.Add(time.Duration(n) * 24 * time.Hour) }
	for _, c := range []struct {
		free, floor int64
		sets        []growth
		full        *time.Time
		fits        bool
	}{
		{1100, 100, []growth{{0, 100, math.Inf(1), math.Inf(1)}}, at(day(10)), true},
		{1100, 100, []growth{{0, 100, 500, 500}, {0, 50, math.Inf(1), math.Inf(1)}}, at(day(10)), true},
		{1100, 100, []growth{{200, 100, 1000, 1000}}, nil, true},
		{1100, 100, []growth{{200, 100, 5000, 5000}}, at(day(10)), false},
		{50, 100, []growth{{0, 0, 0, 0}}, at(now), false},
	} {
		d := Disk{Free: c.free, Floor: c.floor}
		d.add(c.sets, now)
		if (d.Full == nil) != (c.full == nil) || d.Full != nil && !d.Full.Equal(*c.full) || d.Fits != c.fits {
			t.Errorf("%+v: full %v, fits %v", c, d.Full, d.Fits)
		}
	}
}

func at(t time.Time) *time.Time { return &t }

func TestAFolderThatIsNotThereIsOnTheDiskOfTheOneAbove(t *testing.T) {
	dir := t.TempDir()
	r := Of([]Source{{Name: "all", Settings: roll.Settings{Floor: disk.Floor{Percent: 5}}, Paths: []string{dir + "/a/b/all.log"}, Folder: dir + "/a/b"}}, time.Now())
	if len(r.Disks) != 1 || r.Disks[0].Folder != dir || r.Sets[0].Disk != dir || r.Disks[0].Floor <= 0 || r.Sets[0].Oldest != nil {
		t.Errorf("%+v", r)
	}
}
