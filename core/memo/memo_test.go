package memo

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
)

// owner is one that keeps facts.
type owner struct {
	facts map[string]string
	file  *File
}

func (o *owner) set(key, value string) {
	o.facts[key] = value
	o.file.Set(key, value)
}

func (o *owner) forget(key string) {
	delete(o.facts, key)
	o.file.Forget(key)
}

func (o *owner) save() error {
	return o.file.Save(false, func(note func(key, value string)) {
		for key, value := range o.facts {
			note(key, value)
		}
	})
}

func TestFactsAreReadAsTheyWereNoted(t *testing.T) {
	path := filepath.Join(t.TempDir(), "facts")
	o := owner{map[string]string{}, New(disk.OS, path)}
	for n := range 5000 {
		o.set(fmt.Sprint("key", n%7), fmt.Sprint("value=", n))
		if n%3 == 0 {
			o.forget(fmt.Sprint("key", n%5))
		}
		if n%10 == 0 {
			if err := o.save(); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := o.save(); err != nil {
		t.Fatal(err)
	}
	found, err := Read(path)
	if err != nil || !reflect.DeepEqual(found.Facts, o.facts) || len(found.Damaged) > 0 || found.Lost {
		t.Errorf("got %+v %v, want %v", found, err, o.facts)
	}
	if st, _ := os.Stat(path); st.Size() > 2*spare {
		t.Errorf("seven facts take %d bytes", st.Size())
	}
}

// Whatever happens to one of the two files, nothing is lost, and it is told;
// damage to both is never taken for facts.
// A full disk can end the writing of all facts after the first of the two files.
func TestWhatIsForgottenStaysForgotten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.memo")
	full := false
	o := &owner{facts: map[string]string{}, file: New(&disktest.Disk{Fault: func(_ int, _, at string) error {
		if full && strings.Contains(at, twinSuffix) {
			return disktest.ErrFault
		}
		return nil
	}}, path)}
	o.set("old", "1")
	o.set("kept", "1")
	if err := o.save(); err != nil {
		t.Fatal(err)
	}
	full = true
	o.set("new", "1")
	o.forget("old")
	for range 2 { // the second writes all anew
		if o.save() == nil {
			t.Fatal("the disk was not full")
		}
	}
	found, err := Read(path)
	if err != nil || !maps.Equal(found.Facts, o.facts) {
		t.Errorf("got %v, %v, want %v", found.Facts, err, o.facts)
	}
}

func TestDamageIsSeen(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for run := range 400 {
		path := filepath.Join(t.TempDir(), "facts")
		o := owner{map[string]string{}, New(disk.OS, path)}
		for n := range 30 {
			o.set(fmt.Sprint("key", n%9), fmt.Sprint("value ", n))
			o.save()
		}
		both := run%2 == 1
		for i, p := range Paths(path) {
			if i == 1 && !both {
				break
			}
			b, _ := os.ReadFile(p)
			switch rnd.IntN(3) {
			case 0:
				b[rnd.IntN(len(b))] ^= 1 << rnd.IntN(8)
			case 1:
				b = b[:rnd.IntN(len(b))]
			default:
				clear(b[rnd.IntN(len(b)):])
			}
			os.WriteFile(p, b, 0o640)
		}
		found, err := Read(path)
		if err != nil {
			t.Fatal(err)
		}
		if !both && (!maps.Equal(found.Facts, o.facts) || found.Lost) {
			t.Errorf("run %d: got %+v, want %v", run, found, o.facts)
		}
		for key, value := range found.Facts {
			var n, k int
			if _, err := fmt.Sscanf(key+" "+value, "key%d value %d", &k, &n); err != nil || n%9 != k {
				t.Errorf("run %d: %s is %q, which was never noted", run, key, value)
			}
		}
	}
}

// A kill at any call leaves what the last Save that returned has written.
func TestAKillLeavesWhatWasSaved(t *testing.T) {
	for at := 1; at < 60; at++ {
		path := filepath.Join(t.TempDir(), "facts")
		o := owner{map[string]string{}, New(&disktest.Disk{Fault: disktest.DieAt(at)}, path)}
		saved, last := map[string]string{}, map[string]string{}
		for n := range 30 {
			o.set(fmt.Sprint("key", n%4), fmt.Sprint(n))
			last = maps.Clone(o.facts)
			if o.save() != nil {
				break
			}
			saved = last
		}
		found, err := Read(path)
		if len(saved) == 0 {
			continue
		}
		if err != nil || !maps.Equal(found.Facts, saved) && !maps.Equal(found.Facts, last) {
			t.Errorf("killed at call %d: got %v %v, want %v or %v", at, found.Facts, err, saved, last)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("5f3a09c1 1 oakbarrel=1\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		found := Found{Facts: map[string]string{}}
		found.merge(b, map[string]uint64{})
	})
}
