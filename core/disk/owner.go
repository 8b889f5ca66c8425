package disk

import (
	"fmt"
	"math"
)

// Owner is whom new files belong to; the zero Owner is the process.
type Owner struct {
	SetUser, SetGroup bool
	User, Group       int    // ids
	Missing           string // a user or a group that this machine does not have, "" for none
}

// Give gives a file to the owner, if it is not the owner's already.
func (o Owner) Give(f File) error {
	if o.Missing != "" {
		return fmt.Errorf("this machine has no %s, to whom the plan gives its files", o.Missing)
	}
	if !o.SetUser && !o.SetGroup {
		return nil
	}
	st, err := f.Stat()
	if err != nil {
		return err
	}
	now := OwnerOf(st)
	if (!o.SetUser || o.User == now.User) && (!o.SetGroup || o.Group == now.Group) {
		return nil
	}
	user, group := -1, -1
	if o.SetUser {
		user = o.User
	}
	if o.SetGroup {
		group = o.Group
	}
	return f.Chown(user, group)
}

// Floor is free space of a disk that is not written into; the zero Floor is none.
type Floor struct {
	Percent float64 // of the disk
	Bytes   int64
}

// FloorError says that a disk has no more free space than is to stay free.
type FloorError struct {
	Free, Wanted int64 // bytes
	Folder       string
}

func (e *FloorError) Error() string {
	return fmt.Sprintf("no space left on the disk of %s that may be written into: %s are free, and the plan keeps %s free (disk: {floor: …})", e.Folder, size(e.Free), size(e.Wanted))
}

// size writes a number of bytes in binary units.
func size(n int64) string {
	if n < 10<<20 {
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

// Check returns an error of type *[FloorError] where the disk of a folder has
// no more free space than the floor.
func (o Floor) Check(folder string) error {
	free, wanted := o.measure(folder)
	if free > wanted {
		return nil
	}
	return &FloorError{free, wanted, folder}
}

// Room returns how many bytes may be written on the disk of a folder, 0 for none.
func (o Floor) Room(folder string) int64 {
	free, wanted := o.measure(folder)
	return max(0, free-wanted)
}

// Of returns how many bytes are to stay free of a disk of that size.
func (o Floor) Of(size int64) int64 { return max(o.Bytes, int64(o.Percent/100*float64(size))) }

// measure returns the free space of a disk, and what is to stay free.
func (o Floor) measure(folder string) (free, wanted int64) {
	if o == (Floor{}) {
		return math.MaxInt64, 0
	}
	size, free, err := Space(folder)
	if err != nil { // the writing tells what is wrong
		return math.MaxInt64, 0
	}
	return free, o.Of(size)
}
