package tail

import (
	"errors"
	"testing"
	"time"
)

// Each row is a story of a file that a look has found, and what it is.
func TestWhatAFileIs(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	old := &source{Path: "/srv/a.log"}
	whole := seen{size: 500, written: now, since: now, content: aLine}
	packed := seen{size: 100, written: now, since: now, content: aLine, packed: true}
	broken := seen{size: 10, written: now, since: now, content: nothing, packed: true, unreadable: errPacked}
	// The source as it is while its program writes it: known for long, read to its end.
	alive := like{source: old, content: same, strong: true, name: made, has: true, older: true, read: 500, size: 500}
	lost := alive
	lost.has = false
	cut := lost
	cut.cut = true
	with := func(l like, change func(*like)) like { change(&l); return l }
	file := func(f seen, change func(*seen)) seen { change(&f); return f }
	settings := Settings{LastWait: time.Second}
	for _, c := range []struct {
		story string
		file  seen
		likes []like
		want  fate
		begin int64
		short bool
		waits bool // and is decided anew by itself
	}{
		{"a program begins a file", whole, nil, begins, 0, false, false},
		{"nothing stands in it yet", file(whole, func(f *seen) { f.content = nothing }), nil, wait, 0, false, false},
		{"a piece of a line stands in it", file(whole, func(f *seen) { f.content = lessThan }), nil, wait, 0, false, true},
		{"a piece of a line has stood in it for long", file(whole, func(f *seen) { f.content = lessThan; f.written = now.Add(-time.Minute) }), nil, begins, 0, false, false},
		{"it is compressed with what is not read", file(whole, func(f *seen) { f.foreign = "xz" }), nil, leaveOut, 0, false, false},

		{"it was renamed: the inode and the content are those of a source", whole, []like{with(lost, func(l *like) { l.inode = true })}, goesOn, 0, false, false},
		{"it was renamed and cannot be read at the moment", whole, []like{with(lost, func(l *like) { l.inode = true; l.content = unknown })}, goesOn, 0, false, false},
		{"its inode was given to another file", whole, []like{with(lost, func(l *like) { l.inode = true; l.content = different })}, begins, 0, false, false},

		{"the original was cut, and this is the copy", whole, []like{cut}, goesOn, 0, false, false},
		{"the original was cut, and this copy has less than was read", whole, []like{with(cut, func(l *like) { l.content = shorter })}, goesOn, 0, true, false},
		{"the original was cut, and this copy was compressed with less than was read", packed, []like{with(cut, func(l *like) { l.content = begunAlike })}, goesOn, 0, true, false},
		{"it begins as what is gone did, and is shorter: nothing says that it was made of it", packed, []like{with(lost, func(l *like) { l.content = begunAlike })}, begins, 0, false, false},
		{"it begins as what is compressed too, and is shorter", packed, []like{with(alive, func(l *like) { l.content = begunAlike })}, begins, 0, false, false},
		{"it begins as what is gone did, and another that may have been it is not whole yet", whole, []like{with(lost, func(l *like) { l.content = begunAlike; l.later = true })}, wait, 0, false, true},
		{"nobody has made the other whole", file(whole, func(f *seen) { f.since = now.Add(-copyTime) }), []like{with(lost, func(l *like) { l.content = begunAlike; l.later = true })}, begins, 0, false, false},
		{"an engine never cuts: the inode was given to another file", packed, []like{with(cut, func(l *like) { l.content = begunAlike; l.renaming = true })}, begins, 0, false, false},
		{"it is the file that was cut", whole, []like{with(cut, func(l *like) { l.inode = true; l.name = alike })}, begins, 0, false, false},
		{"it was compressed where it stands", packed, []like{with(cut, func(l *like) { l.inode = true; l.name = alike })}, goesOn, 0, false, false},
		{"an editor has saved it anew", whole, []like{with(lost, func(l *like) { l.name = alike })}, goesOn, 0, false, false},
		{"the program has begun anew with the same few words", whole, []like{with(lost, func(l *like) { l.name = alike; l.strong = false })}, begins, 0, false, false},
		{"the source was renamed away from here, and the program has begun anew alike", whole, []like{with(lost, func(l *like) { l.moved = true })}, begins, 0, false, false},

		{"somebody has copied it", whole, []like{alive}, passOver, 0, false, false},
		{"another program's file holds the same", whole, []like{with(alive, func(l *like) { l.name = family })}, begins, 0, false, false},
		{"a copy is ahead of the reading of its original", file(whole, func(f *seen) { f.size = 700 }), []like{with(alive, func(l *like) { l.size = 900 })}, wait, 0, false, true},
		{"a copy was just made, with little in it", whole, []like{with(alive, func(l *like) { l.strong = false })}, wait, 0, false, true},
		{"nobody has cut the original of little since", file(whole, func(f *seen) { f.since = now.Add(-settleTime) }), []like{with(alive, func(l *like) { l.strong = false })}, begins, 0, false, false},
		{"both were there before the first start", whole, []like{with(alive, func(l *like) { l.older = false })}, wait, 0, false, true},
		{"both were, and neither was cut since", file(whole, func(f *seen) { f.since = now.Add(-settleTime) }), []like{with(alive, func(l *like) { l.older = false })}, begins, 0, false, false},
		{"somebody writes to what was a copy", file(whole, func(f *seen) { f.size, f.copied = 700, 500 }), []like{alive}, begins, 500, false, false},
		{"it has more than the original, and was no copy yet", file(whole, func(f *seen) { f.size = 700 }), []like{alive}, wait, 0, false, true},
		{"an engine only renames", whole, []like{with(alive, func(l *like) { l.renaming = true })}, begins, 0, false, false},
		{"the original has no name any more, and is not read to its end", whole, []like{with(alive, func(l *like) { l.leaving = true; l.name = alike })}, wait, 0, false, true},

		{"it is being compressed", broken, []like{with(alive, func(l *like) { l.content = unknown })}, wait, 0, false, false},
		{"only the header of the compressed one is there, of no source", broken, nil, wait, 0, false, false},
		{"it is compressed, and the original is still there", packed, []like{alive}, passOver, 0, false, false},
		{"it is compressed, and the original is removed", packed, []like{lost}, goesOn, 0, false, false},
		{"an engine has compressed it", packed, []like{with(lost, func(l *like) { l.renaming = true })}, goesOn, 0, false, false},
		{"an engine compresses it at the first look", packed, []like{with(alive, func(l *like) { l.renaming = true; l.older = false })}, passOver, 0, false, false},
		{"compressed files of before the first start", packed, nil, begins, 0, false, false},
	} {
		got := decide(c.file, c.likes, settings, now)
		if got.fate != c.want || got.begin != c.begin || got.short != c.short || got.again.IsZero() == c.waits {
			t.Errorf("%s: got %+v", c.story, got)
		}
		if (got.fate == wait || got.fate == passOver || got.fate == leaveOut) && got.why == "" {
			t.Errorf("%s: nothing tells why it is not read", c.story)
		}
	}
	if d := decide(file(whole, func(f *seen) { f.written = now.Add(-time.Hour) }), nil, Settings{Age: time.Minute}, now); d.fate != leaveOut {
		t.Errorf("what is too old is not left out: %+v", d)
	}
	if d := decide(file(broken, func(f *seen) { f.unreadable = errors.New("permission denied"); f.packed = false }), nil, settings, now); d.why != "it cannot be read yet: permission denied" {
		t.Errorf("got %q", d.why)
	}
}

func TestHowNamesAreRelated(t *testing.T) {
	for _, c := range []struct {
		source, file string
		want         relation
	}{
		{"/a/app.log", "/a/app.log", alike},
		{"/a/app.log", "/a/app.log.1", made},
		{"/a/app.log", "/a/app-20261128.log.gz", made},
		{"/a/app.log", "/a/app.log.3.tmp", made},
		{"/a/app.log", "/a/app.log~", made},
		{"/a/app.log.1", "/a/app.log.2.gz", made},
		{"/a/0.log", "/a/0.log.20261128-101500.gz", made},
		{"/a/worker-1.log", "/a/worker-2.log", family},
		{"/a/app.log.1", "/a/app.log", family},
		{"/a/app.log", "/old/app.log.1", family},
		{"/a/tickets.log", "/a/pumps.log", stranger},
		{"/a/app.log", "/a/copy.log", stranger},
	} {
		if got := relationOf(c.source, c.file); got != c.want {
			t.Errorf("%s and %s: %d, want %d", c.source, c.file, got, c.want)
		}
	}
}
