package spool

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
	"oakbarrel/core/record"
)

func open(t testing.TB, d disk.Disk, dir string, limit int64) *Spool {
	t.Helper()
	s, err := Open(d, dir, limit, func(Damage) {})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func numbered(n int, severity record.Severity) *record.Record {
	return &record.Record{Priority: record.MakePriority(record.Local0, severity), Time: record.Stamp{Sec: int64(n), Form: record.Zulu}, Text: []byte(fmt.Sprintf("record %d", n)), Intake: "wire", Peer: &record.Peer{PID: 7}}
}

func add(t testing.TB, s *Spool, from, to int, severity func(n int) record.Severity, canWait bool) {
	t.Helper()
	for n := from; n <= to; n++ {
		s.Add(numbered(n, severity(n)), canWait)
	}
	if err := s.Flush(nil); err != nil {
		t.Fatal(err)
	}
}

func mixed(n int) record.Severity { return record.Severity(n * 5 % 8) }

// readAll reads what is left and demands that every number is accounted for.
func readAll(t testing.TB, s *Spool, records, bytes int) (numbers []uint64, batches []Batch) {
	t.Helper()
	for {
		b, err := s.Read(records, bytes, func(number uint64, r *record.Record) {
			if n := len(numbers); n > 0 && numbers[n-1] >= number {
				t.Fatalf("number %d follows %d", number, numbers[n-1])
			}
			numbers = append(numbers, number)
		})
		if err != nil {
			t.Fatal(err)
		}
		if b.Last < b.First {
			return numbers, batches
		}
		total := b.Records + b.Lost
		for _, n := range b.Shed {
			total += n
		}
		if total != int(b.Last-b.First)+1 || len(batches) > 0 && batches[len(batches)-1].Last+1 != b.First {
			t.Fatalf("batch %+v after %+v", b, batches)
		}
		batches = append(batches, b)
	}
}

func sequence(from, to uint64) (all []uint64) {
	for n := from; n <= to; n++ {
		all = append(all, n)
	}
	return all
}

func expect[T any](t testing.TB, what string, got, want T) {
	t.Helper()
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%s:\n got %v\nwant %v", what, got, want)
	}
}

func TestRecordsComeBackInOrder(t *testing.T) {
	dir := t.TempDir()
	s := open(t, disk.OS, dir, 1<<30)
	add(t, s, 1, 500, mixed, true)
	add(t, s, 501, 1000, mixed, false)
	s.Add(numbered(1001, record.Error), true) // not flushed: not there yet
	got, batches := readAll(t, s, 64, 1<<20)
	expect(t, "numbers", got, sequence(1, 1000))
	if len(batches) != 16 {
		t.Errorf("%d batches", len(batches))
	}
	s.Rewind()
	i := 0
	s.Read(1, 1<<20, func(_ uint64, r *record.Record) {
		i++
		if want := string(numbered(1, mixed(1)).AppendJSON(nil)); string(r.AppendJSON(nil)) != want {
			t.Errorf("got %s, want %s", r.AppendJSON(nil), want)
		}
	})
	s.Rewind()
	again := open(t, disk.OS, dir, 1<<30)
	got, _ = readAll(t, again, 1<<20, 1<<20)
	expect(t, "after a restart", got, sequence(1, 1000))
	expect(t, "state", again.State().Held, 1000)
	expect(t, "the next number", again.Add(numbered(1, record.Info), true), 1001)
}

func TestConfirmForgets(t *testing.T) {
	dir := t.TempDir()
	s := open(t, disk.OS, dir, 1<<30)
	add(t, s, 1, 1000, mixed, true)
	b, _ := s.Read(100, 1<<20, func(uint64, *record.Record) {})
	if err := s.Confirm(b.Last); err != nil {
		t.Fatal(err)
	}
	expect(t, "held", s.State().Held, 900)
	got, _ := readAll(t, s, 1<<20, 1<<30)
	expect(t, "the rest", got, sequence(101, 1000))
	s.Rewind()
	got, _ = readAll(t, s, 1<<20, 1<<30)
	expect(t, "the rest again", got, sequence(101, 1000))
	if err := s.Confirm(555); err != nil { // the receiver knows more than we have seen
		t.Fatal(err)
	}
	expect(t, "held", s.State().Held, 445)
	got, _ = readAll(t, s, 1<<20, 1<<30)
	expect(t, "what it does not have", got, sequence(556, 1000))
	if err := s.Confirm(1001); err == nil {
		t.Error("a number that was never written is confirmed")
	}
	s.Confirm(1000)
	names, _ := filepath.Glob(filepath.Join(dir, "*.chunk"))
	expect(t, "chunks", len(names), 0)
	again := open(t, disk.OS, dir, 1<<30)
	expect(t, "state", again.State(), State{Next: 1001, Written: 1000, Confirmed: 1000, Limit: 1 << 30})
}

func TestMarksAreKeptWithTheRecords(t *testing.T) {
	dir := t.TempDir()
	s := open(t, disk.OS, dir, 1<<30)
	s.Add(numbered(1, record.Info), true)
	s.Flush([]record.Mark{{Source: "a", Offset: 10}, {Source: "b", Offset: 20}})
	s.Add(numbered(2, record.Info), true)
	s.Flush([]record.Mark{{Source: "a", Offset: 15}})
	want := map[string]int64{"a": 15, "b": 20}
	expect(t, "marks", s.Marks(), want)
	expect(t, "after a restart", open(t, disk.OS, dir, 1<<30).Marks(), want)
	s.Confirm(2)
	expect(t, "without the records", open(t, disk.OS, dir, 1<<30).Marks(), want)
	s.SaveMarks([]record.Mark{{Source: "c", Offset: 7}}, []string{"b"})
	expect(t, "saved by themselves", open(t, disk.OS, dir, 1<<30).Marks(), map[string]int64{"a": 15, "c": 7})
}

func TestTheLeastSeriousIsShed(t *testing.T) {
	s := open(t, disk.OS, t.TempDir(), 40_000)
	levels := func(n int) record.Severity { return []record.Severity{record.Error, record.Info, record.Debug}[n%3] }
	for from := 1; from < 3000; from += 100 {
		add(t, s, from, from+99, levels, false)
	}
	numbers, batches := readAll(t, s, 1<<20, 1<<30)
	var shed [8]int
	for _, b := range batches {
		for i := range shed {
			shed[i] += b.Shed[i]
		}
	}
	if shed[record.Debug] < 990 || shed[record.Error] != 0 && shed[record.Info] < 1000 || len(numbers)+shed[record.Debug]+shed[record.Info]+shed[record.Error] != 3000 {
		t.Errorf("%d are left, shed %v", len(numbers), shed)
	}
	if state := s.State(); state.Size > 40_000 || state.Held != int64(len(numbers)) {
		t.Errorf("%+v", state)
	}
}

func TestWhatCanWaitIsNotShed(t *testing.T) {
	s := open(t, disk.OS, t.TempDir(), 5000)
	add(t, s, 1, 60, mixed, true)
	for n := range 200 {
		s.Add(numbered(n, record.Debug), true)
	}
	if err := s.Flush(nil); !errors.Is(err, ErrFull) {
		t.Fatalf("%v", err)
	}
	got, _ := readAll(t, s, 1<<20, 1<<30)
	expect(t, "numbers", got, sequence(1, 60))
	s.Confirm(60)
	if err := s.Flush(nil); !errors.Is(err, ErrFull) { // the group alone is larger
		t.Errorf("%v", err)
	}
}

func TestWhatWasReadIsNotShed(t *testing.T) {
	s := open(t, disk.OS, t.TempDir(), 6000)
	debug := func(int) record.Severity { return record.Debug }
	add(t, s, 1, 80, debug, false)
	b, _ := s.Read(10, 1<<20, func(uint64, *record.Record) {}) // on its way
	for from := 81; from < 1000; from += 20 {
		add(t, s, from, from+19, debug, false)
	}
	if err := s.Confirm(b.Last); err != nil {
		t.Fatal(err)
	}
	numbers, _ := readAll(t, s, 1<<20, 1<<30)
	for i, n := range sequence(11, 80) {
		if numbers[i] != n {
			t.Fatalf("of the chunk that was being read, number %d is missing", n)
		}
	}
}

// A kill at every call that changes a file: what a returned Flush put down is
// there after the restart, once and in order; what was shed is declared; no
// number is ever used for two records.
func TestAKillAtEveryCallLeavesNoHole(t *testing.T) {
	for n := 1; ; n++ {
		dir := t.TempDir()
		faulty := &disktest.Disk{Fault: disktest.DieAt(n)}
		s, err := Open(faulty, dir, 9000, func(Damage) {})
		written, confirmed := uint64(0), uint64(0)
		rnd := rand.New(rand.NewPCG(uint64(n), 1))
		step := func() error {
			for range 1 + rnd.IntN(12) {
				s.Add(numbered(int(s.State().Next), record.Severity(rnd.IntN(8))), rnd.IntN(4) == 0)
			}
			if err := s.Flush([]record.Mark{{Source: "a", Offset: int64(s.State().Next)}}); err != nil && !errors.Is(err, ErrFull) {
				return err
			} else if err == nil {
				written = s.State().Written
			}
			if rnd.IntN(3) == 0 {
				b, err := s.Read(20, 1<<20, func(uint64, *record.Record) {})
				if err != nil {
					return err
				}
				if err := s.Acknowledge(b.Last); err != nil {
					return err
				}
				if rnd.IntN(2) == 0 {
					if err := s.Forget(); err != nil {
						return err
					}
					confirmed = b.Last
				}
			}
			return nil
		}
		for i := 0; err == nil && i < 20; i++ {
			err = step()
		}
		killed := err != nil
		if s != nil {
			s.Close()
		}
		again := open(t, disk.OS, dir, 9000)
		state := again.State()
		if state.Written < written || state.Confirmed < confirmed {
			t.Fatalf("killed at call %d: %+v, but %d were written and %d confirmed", n, state, written, confirmed)
		}
		// The mark says what the next number is: they go together, but for what is
		// shed, which may be read and shed again.
		mark := uint64(again.Marks()["a"])
		for n := max(mark, 1); n <= state.Written; n++ {
			if !again.isShed(n) && n > state.Confirmed {
				t.Fatalf("killed at call %d: the mark says %d, but %d is written", n, mark, state.Written)
			}
		}
		if mark > state.Written+1 {
			t.Fatalf("killed at call %d: the mark says %d, but only %d is written", n, mark, state.Written)
		}
		var lost int
		numbers, batches := readAll(t, again, 1<<20, 1<<30)
		for _, b := range batches {
			lost += b.Lost
		}
		if lost > 0 || len(batches) > 0 && batches[len(batches)-1].Last != state.Written || int64(len(numbers)) != state.Held {
			t.Fatalf("killed at call %d: %d lost, %d records, %+v", n, lost, len(numbers), state)
		}
		if !killed {
			t.Logf("%d calls", n)
			return
		}
	}
}

func TestDamageIsDeclared(t *testing.T) {
	dir := t.TempDir()
	s := open(t, disk.OS, dir, 1<<30)
	for n := 1; n <= 30; n += 10 {
		add(t, s, n, n+9, func(int) record.Severity { return record.Info }, true)
	}
	names, _ := filepath.Glob(filepath.Join(dir, "*.chunk"))
	f, _ := os.OpenFile(names[0], os.O_RDWR, 0)
	st, _ := f.Stat()
	f.WriteAt([]byte{'X'}, st.Size()/2) // in the second frame
	f.Close()
	numbers, batches := readAll(t, s, 1<<20, 1<<30)
	expect(t, "numbers", numbers, append(sequence(1, 10), sequence(21, 30)...))
	expect(t, "lost", batches[0].Lost, 10)
}

// A bit that flips anywhere in a chunk costs the records of one frame: all others
// are there, what is lost is told by its number, and no number is given again.
func TestOneBitCostsOneFrame(t *testing.T) {
	dir := t.TempDir()
	s := open(t, disk.OS, dir, 1<<30)
	for n := 1; n <= 40; n += 10 {
		add(t, s, n, n+9, mixed, true)
	}
	s.Close()
	whole := map[string][]byte{}
	names, _ := filepath.Glob(filepath.Join(dir, "*"))
	for _, name := range names {
		whole[name], _ = os.ReadFile(name)
	}
	chunks, _ := filepath.Glob(filepath.Join(dir, "*.chunk"))
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 250 {
		for name, content := range whole {
			os.WriteFile(name, content, 0o640)
		}
		name := chunks[rnd.IntN(len(chunks))]
		damaged := append([]byte{}, whole[name]...)
		at := rnd.IntN(len(damaged))
		damaged[at] ^= 1 << rnd.IntN(8)
		os.WriteFile(name, damaged, 0o640)
		var told []Damage
		again, err := Open(disk.OS, dir, 1<<30, func(d Damage) { told = append(told, d) })
		if err != nil {
			t.Fatal(err)
		}
		numbers, batches := readAll(t, again, 1<<20, 1<<30)
		lost := 0
		for _, b := range batches {
			lost += b.Lost
		}
		given := again.Add(numbered(41, record.Info), true)
		again.Close()
		if len(told) != 1 || told[0].File != name {
			t.Fatalf("byte %d of %s: told %+v", at, name, told)
		}
		if missing := 40 - len(numbers); missing < 1 || missing > 3 || lost < missing || given <= 40 {
			t.Fatalf("byte %d of %s: %d records are missing, %d are told as lost; the next number is %d", at, name, missing, lost, given)
		}
	}
}

// On a disk without any room left, what is delivered makes room.
func TestAFullDiskIsLeftByDelivering(t *testing.T) {
	dir := t.TempDir()
	full := false
	d := &disktest.Disk{Fault: func(_ int, op, path string) error {
		_, err := os.Stat(filepath.Join(dir, ballastFile))
		if full && err == nil && (op == "write" || op == "create") {
			return unix.ENOSPC // until the ballast is gone
		}
		return nil
	}}
	s := open(t, d, dir, 1<<30)
	add(t, s, 1, 1000, mixed, true)
	full = true
	b, _ := s.Read(1000, 1<<30, func(uint64, *record.Record) {})
	if err := s.Confirm(b.Last); err != nil {
		t.Fatal(err)
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*.chunk"))
	expect(t, "chunks", left, nil)
	full = false
	add(t, s, 1001, 1010, mixed, true)
}

func FuzzFrame(f *testing.F) {
	fr := frame{records: 1, group: numbers{1, 1}, first: 1, last: 1, marks: []record.Mark{{Source: "a", Offset: 5}}, body: appendRecord(nil, 0, numbered(1, record.Info))}
	f.Add(fr.append(nil), appendNote(nil, 9, []Range{{1, 5, 3}}))
	f.Fuzz(func(t *testing.T, body, ranges []byte) {
		d := reader{b: body}
		var r record.Record
		for range 3 {
			if _, err := d.record(&r); err == nil {
				r.AppendJSON(nil)
			}
		}
		parseNote(ranges)
	})
}

// A spool that the version before has written is gone on with.
func TestTheSpoolOfTheVersionBeforeIsRead(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "state.json"), []byte(`{"confirmed":5,"marks":{"s":7}}`), 0o640)
	body := appendRecord(nil, 0, numbered(6, record.Info))
	head := make([]byte, oldSize)
	copy(head, oldMagic)
	binary.LittleEndian.PutUint32(head[8:], uint32(len(body)))
	binary.LittleEndian.PutUint32(head[16:], 1)
	for at := 20; at < oldSize; at += 8 {
		binary.LittleEndian.PutUint64(head[at:], 6)
	}
	old := append(head, body...)
	binary.LittleEndian.PutUint32(old[4:], crc32.Checksum(old[8:], castagnoli))
	os.WriteFile(chunkName(dir, laneOf(record.Info, true), 6), old, 0o640)
	s := open(t, disk.OS, dir, 1<<30)
	expect(t, "mark", s.Marks()["s"], 7)
	expect(t, "state", fmt.Sprint(s.State().Confirmed, s.State().Held), "5 1")
	add(t, s, 7, 8, mixed, true)
	got, _ := readAll(t, s, 10, 1<<20)
	expect(t, "numbers", got, sequence(6, 8))
	if err := s.Confirm(8); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "state.json")); err == nil {
		t.Error("the old file stays")
	}
}
