package tail

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
	"time"
	"unicode/utf16"
)

// written returns a text as a file has it.
func written(e encoding, mark bool, text string) string {
	order := binary.AppendByteOrder(binary.LittleEndian)
	if e == bigE {
		order = binary.BigEndian
	}
	if mark {
		text = "\ufeff" + text
	}
	if e == plain {
		return text
	}
	var b []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		b = order.AppendUint16(b, unit)
	}
	return string(b)
}

// Files of UTF-16, with a mark and without, are followed as others are: half characters that
// are not written yet, lines with 0x0a in other characters, renames, compression, copies and
// cuts, kills.
func TestUTF16IsFollowed(t *testing.T) {
	for name, c := range map[string]struct {
		e    encoding
		mark bool
	}{"little, marked": {littleE, true}, "little": {littleE, false}, "big, marked": {bigE, true}, "UTF-8, marked": {plain, true}} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "*.log")
			text := func(s string) string { return written(c.e, false, s) }
			b.write("a.log", written(c.e, c.mark, "2026-11-30 pump P1 läuft\r\nઊ and Ċ are no ends 🐟\r\n"))
			whole := text("three\r\nfo")
			b.write("a.log", whole[:len(whole)-1])
			b.start()
			want := []string{"2026-11-30 pump P1 läuft", "ઊ and Ċ are no ends 🐟", "three"}
			b.awaitPrefix(want)
			b.write("a.log", whole[len(whole)-1:]+text("ur\r\n"))
			time.Sleep(10 * time.Millisecond)
			b.write("a.log", text("five\n"))
			for !strings.HasSuffix(strings.Join(b.lines(), "|"), "five") {
				time.Sleep(time.Millisecond)
			}
			if all := strings.Join(b.lines(), ""); !strings.HasPrefix(all, strings.Join(want, "")+"four") {
				t.Fatalf("%q", b.lines()) // what was left for long counts as a line of its own
			}
			before := b.lines()
			b.saveAll()
			b.kill()
			b.write("a.log", text("six\r\n"))
			b.rename("a.log", "a-1.log")
			b.gzip("a-1.log")
			b.write("a.log", written(c.e, c.mark, "another file\r\n"))
			b.start()
			b.await(append(before, "six", "another file")...)
			b.copyAndCut("a.log", "a-2.log")
			b.write("a.log", written(c.e, c.mark, "and a third, that is longer\r\n"))
			b.await(append(before, "six", "another file", "and a third, that is longer")...)
		})
	}
}

// awaitPrefix waits until the first lines are there.
func (b *bench) awaitPrefix(want []string) {
	b.t.Helper()
	for until := time.Now().Add(10 * time.Second); len(b.lines()) < len(want); time.Sleep(time.Millisecond) {
		if time.Now().After(until) {
			b.t.Fatalf("%q", b.lines())
		}
	}
	expect(b.t, "lines", b.lines()[:len(want)], want)
}

func TestALongLineOfUTF16IsCut(t *testing.T) {
	b := newBench(t, "*.log")
	b.settings.Lines.Largest = 1001
	b.write("a.log", written(littleE, true, strings.Repeat("ä", 300_000)+"\nnext\n"))
	b.start()
	b.awaitPrefix([]string{strings.Repeat("ä", 500), "next"})
}

func TestHowAFileIsWritten(t *testing.T) {
	for head, want := range map[string]encoding{
		"": plain, "abc": plain, "\xff\xfe": littleE, "\xfe\xff": bigE, "a\x00b\x00c\x00d\x00": littleE, "a\x00b\x00c\x00": plain, "\x00a\x00b\x00c\x00d": bigE,
		"\x00\x00\x00\x00\x00\x00\x00\x00": plain, "a\x00b\x00c\x00d\x01": plain, "abcdefgh": plain, "\x1f\x8b\x08\x00": plain,
	} {
		if got := encodingOf([]byte(head)); got != want {
			t.Errorf("%q: %d, not %d", head, got, want)
		}
	}
}

// Lines of any text come out as they went in, however they are cut apart.
func FuzzEncodedLines(f *testing.F) {
	f.Add("one\ntwo\r\n\u0a0a\u000a🐟", true)
	f.Fuzz(func(t *testing.T, text string, little bool) {
		e := bigE
		if little {
			e = littleE
		}
		text = string([]rune(text))
		b := []byte(written(e, false, text))
		var got strings.Builder
		for len(b) > 0 {
			n := e.lineEnd(b)
			if n == 0 {
				n = len(b)
			}
			line := e.text(b[:n])
			if i := bytes.IndexByte(line, '\n'); i >= 0 && i < len(line)-1 {
				t.Fatalf("%q has two lines", line)
			}
			got.Write(line)
			b = b[n:]
		}
		if got.String() != text {
			t.Fatalf("%q became %q", text, got.String())
		}
	})
}
