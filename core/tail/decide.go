package tail

import (
	"fmt"
	"time"
)

// What a file is, is decided here and nowhere else, by what a look has seen of
// it and of the sources that it could be. Nothing is opened, begun or logged:
// looking gathers what is seen, and carries out what is decided.
//
// One rule stands above the others: a line that is lost in silence is worse than
// one that comes twice and is told. So a file is passed over only where what it
// holds was read from another one, whose name rolling, copying or compressing
// could have made into its own. All else is read.

// seen is what is known of a file that is no source yet.
type seen struct {
	size       int64
	written    time.Time // last
	packed     bool      // it is compressed, by what stands in it
	foreign    string    // the compression that cannot be read, "" for none
	unreadable error     // why its content cannot be read, nil where it can
	content    amount
	since      time.Time // when it was first found to be like a source
	copied     int64     // its size when it was decided to be a copy, 0 for never
	crowded    bool      // more sources begin as it does than it was compared with
}

// amount is how much stands in a file, as far as it takes to know it again.
type amount int

const (
	aLine    amount = iota // a line, or a piece of one that has stood there for long enough
	nothing                // no content yet
	lessThan               // a piece of a line, which may go on
)

// like is what is known of a source that a file is compared with.
type like struct {
	source   *source
	content  likeness
	strong   bool // it has enough in common to tell copies by that alone
	name     relation
	later    bool  // another file may be the source, and cannot be read yet
	inode    bool  // the file has the inode of the source
	has      bool  // the source has its own file
	cut      bool  // its file is there and holds something else: what it held may be in a copy
	leaving  bool  // its own file has no name any more, and is not read to its end
	moved    bool  // the source was renamed away from the path where the file stands
	older    bool  // it was known before the file was first looked at
	renaming bool  // whoever writes it only renames: it has no copies
	read     int64 // how far it is read
	size     int64 // of its own file
}

// likeness is how the content of a file compares with that of a source.
type likeness int

const (
	different  likeness = iota
	same                // it has what was read of the source
	shorter             // the same, as far as it goes: it ends before
	begunAlike          // it begins the same; what stands behind cannot be compared any more, or there is less
	unknown             // it cannot be read
)

// relation is how the name of a file stands to that of a source.
type relation int

const (
	stranger relation = iota
	family            // alike but for what rolling adds to names
	made              // what rolling, copying or compressing makes of the source's name
	alike             // the same
)

// fate is what is done with a file.
type fate int

const (
	begins   fate = iota // it is a source of its own, followed from its beginning
	goesOn               // it is a source that is known, and goes on here
	passOver             // it is a copy of a source
	wait                 // what it is shows later
	leaveOut             // it is not read
)

// decision is what a file is.
type decision struct {
	fate  fate
	of    *source   // of goesOn, passOver and wait, where there is one
	short bool      // goesOn: the file ends before the place up to which the source is read
	begin int64     // begins: where it is followed from
	again time.Time // wait: when it is decided anew though nothing changes; zero for when it changes
	why   string    // the file is not read
	twice bool      // begins: it holds what another does, so lines may come twice
}

// Times within which it shows what a file is.
const (
	settleTime = 2 * time.Second // a copy that is made to cut the original, until that is cut
	copyTime   = time.Minute     // a copy that is being made; what grows for longer is written by a program
)

const noLine = "no line stands in it yet"

// decide tells what a file is. The sources that it could be come in the order in
// which they are to be asked.
func decide(f seen, likes []like, s Settings, now time.Time) decision {
	if f.foreign != "" {
		return decision{fate: leaveOut, why: "it is compressed with " + f.foreign + ", which is not read"}
	}
	for _, l := range likes {
		if l.inode && !l.cut && isSame(l) {
			return decision{fate: goesOn, of: l.source}
		}
	}
	for _, l := range likes {
		if !l.has && hasMoved(f, l) {
			return decision{fate: goesOn, of: l.source, short: l.content == shorter || l.content == begunAlike}
		}
	}
	if f.content == nothing && f.unreadable == nil {
		return decision{fate: wait, why: noLine}
	}
	twice := f.crowded
	for _, l := range likes {
		d, is := asCopy(f, l, now)
		if is {
			return d
		}
		twice = twice || d.twice
	}
	return onItsOwn(f, twice, s, now)
}

// isSame tells whether a file with the inode of a source is that source. What
// cannot be read now is not given up.
func isSame(l like) bool { return l.content == same || l.content == unknown }

// hasMoved tells whether a source that has lost its own file goes on in this one:
// it was renamed, compressed, or copied before it was cut.
func hasMoved(f seen, l like) bool {
	switch {
	case l.content == different || l.content == unknown:
		return false
	case l.cut && l.inode: // that is the file in which it was cut, to be compressed where it stands
		return f.packed && l.strong && l.content == same
	case l.moved && !l.cut: // from there it has gone
		return false
	case l.content == begunAlike && (!l.cut || l.renaming): // what holds less is made by copying alone
		return false
	case l.content == shorter && !l.cut && !f.packed:
		return false
	case l.renaming && !f.packed:
		return false
	case l.strong:
		return l.name >= family
	}
	return l.name == made // a program that starts anew may say the same under the same name
}

// asCopy tells whether a file is, or may yet show to be, a copy of a source that
// has its own file. Where it is not, twice tells that it holds the same.
func asCopy(f seen, l like, now time.Time) (d decision, is bool) {
	pass := decision{fate: passOver, of: l.source, why: "it holds the same as " + l.source.Path}
	switch {
	case l.content == unknown && f.packed && l.name >= family: // most likely it is being written
		return decision{fate: wait, of: l.source, why: notReadable(f)}, true
	case l.content == begunAlike:
		until := f.since.Add(copyTime)
		d := decision{fate: wait, of: l.source, why: "it begins as " + l.source.Path + " did, of which another file may hold the rest", again: until}
		if l.later && now.Before(until) {
			return d, true
		}
		return decision{twice: l.name >= family}, false
	case !l.has || l.content == different || l.content == unknown || l.moved || l.inode:
		return decision{}, false
	case l.leaving && l.strong && l.name >= family: // then it goes on here
		return decision{fate: wait, of: l.source, why: pass.why, again: now.Add(settleTime / 20)}, true
	case f.packed && l.name >= family && (l.older || l.renaming): // the original is removed once this is whole
		return pass, true
	case l.renaming || l.name != made:
		return decision{}, false
	case f.packed: // both are new
	case f.size > max(l.size, l.read): // somebody writes to it
		if f.copied > 0 && l.strong {
			return decision{fate: begins, begin: min(f.copied, l.read)}, true
		}
	case l.older && l.strong && f.size <= l.read:
		return pass, true
	case l.older && l.strong && l.read < l.size: // the original is being read; a copy is in no hurry
		return decision{fate: wait, of: l.source, why: pass.why, again: now.Add(settleTime)}, true
	}
	settle := settleTime
	if l.strong && l.older {
		settle = copyTime
	}
	if until := f.since.Add(settle); now.Before(until) {
		return decision{fate: wait, of: l.source, why: pass.why, again: until}, true
	}
	return decision{twice: true}, false
}

func notReadable(f seen) string {
	if f.unreadable == nil {
		return "it cannot be read to its end yet"
	}
	return fmt.Sprintf("it cannot be read yet: %v", f.unreadable)
}

// onItsOwn is what becomes of a file that is no known source and no copy of one.
func onItsOwn(f seen, twice bool, s Settings, now time.Time) decision {
	switch until := f.written.Add(s.LastWait); {
	case s.Age > 0 && now.Sub(f.written) > s.Age:
		return decision{fate: leaveOut, why: fmt.Sprintf("nobody has written to it for longer than %s", s.Age)}
	case f.content == nothing:
		return decision{fate: wait, why: notReadable(f)}
	case f.content == lessThan && now.Before(until):
		return decision{fate: wait, why: noLine, again: until}
	}
	return decision{fate: begins, twice: twice}
}
