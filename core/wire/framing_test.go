package wire

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// split feeds stream to a Framer in pieces of size bytes and returns the messages.
func split(stream string, size int) (messages []string) {
	var f Framer
	var buf []byte
	for len(stream) > 0 {
		n := min(size, len(stream))
		buf, stream = append(buf, stream[:n]...), stream[n:]
		for {
			frame := f.Next(buf)
			buf = buf[frame.Size:]
			if frame.Message == nil {
				break
			}
			if len(frame.Message) > 0 {
				messages = append(messages, string(frame.Message))
			}
		}
	}
	if rest := f.Rest(buf); len(rest) > 0 {
		messages = append(messages, string(rest))
	}
	return messages
}

func TestFraming(t *testing.T) {
	long := strings.Repeat("x", MaxMessage)
	for _, c := range []struct {
		name, stream string
		want         []string
	}{
		{"line feeds", "<13>a\n<13>b\n", []string{"<13>a", "<13>b"}},
		{"carriage returns", "<13>a\r\n<13>b\r\r\n", []string{"<13>a", "<13>b\r"}},
		{"NUL alone", "<13>a\x00<13>b\x00", []string{"<13>a", "<13>b"}},
		{"both", "<13>a\n\x00<13>b\x00\n", []string{"<13>a", "<13>b"}},
		{"counted", "5 <13>a7 <13>b\nc", []string{"<13>a", "<13>b\nc"}},
		{"counted with line feeds between", "5 <13>a\n5 <13>b\n", []string{"<13>a", "<13>b"}},
		{"all on one connection", "5 <13>a<13>b\n<13>c\x006 <13>dd<13>e\n", []string{"<13>a", "<13>b", "<13>c", "<13>dd", "<13>e"}},
		{"what is left is a message", "<13>a\n<13>b", []string{"<13>a", "<13>b"}},
		{"a counted message that ends early", "100 <13>b", []string{"<13>b"}},
		{"a number is text", "12 monkeys\n1234567 <13>x\n12345678 <13>y\n", []string{"12 monkeys", "1234567 <13>x", "12345678 <13>y"}},
		{"a count of nothing", "0 <13>a\n", []string{"0 <13>a"}},
		{"digits at the end", "<13>a\n12", []string{"<13>a\n12"}},
		{"lines without a priority belong to the one with it", "<13>a\n  at b\nCaused by: c\n\n<14>d\n", []string{"<13>a\n  at b\nCaused by: c", "<14>d"}},
		{"lines without any", "a\nb\n<13>c\nd\n", []string{"a", "b", "<13>c\nd"}},
		{"what only looks like a priority", "<13>a\n<b>c\n<192>d\n<13>e\n", []string{"<13>a\n<b>c\n<192>d", "<13>e"}},
		{"lines of a message that NUL ends", "<13>a\nb\x00<13>c\n<14>d\x00", []string{"<13>a\nb", "<13>c\n<14>d"}},
		{"a NUL among lines", "<13>a\n<13>b\x00<13>c\n<13>d\n", []string{"<13>a", "<13>b", "<13>c", "<13>d"}},
		{"a line feed behind NUL", "<13>a\x00\n<13>b\nc\x00\n\n<13>d", []string{"<13>a", "<13>b\nc", "<13>d"}},
		{"a counted one behind lines", "<13>a\nb\n6 <13>cc", []string{"<13>a\nb", "<13>cc"}},
		{"lines that are too long", "<13>" + long + "\nmore\n<13>b\n", []string{"<13>" + long[4:], "more", "<13>b"}},
		{"empty lines", "\n\n\x00\r\n", nil},
		{"the longest", long + "\n<13>b\n", []string{long, "<13>b"}},
		{"the longest, with a carriage return", long + "\r\n<13>b\n", []string{long, "<13>b"}},
		{"too long", long + "yz\n<13>b\n", []string{long, "<13>b"}},
		{"far too long", strings.Repeat(long, 3) + "\n<13>b\n", []string{long, "<13>b"}},
		{"the longest counted", fmt.Sprintf("%d <13>%s<13>b\n", MaxMessage, long[4:]), []string{"<13>" + long[4:], "<13>b"}},
		{"too long without an end", long + "yzz", []string{long}},
	} {
		for _, size := range []int{1, 2, 3, 7, 4096, 1 << 20} {
			if size < 7 && len(c.stream) > MaxMessage {
				continue // slow, and no other case
			}
			if got := split(c.stream, size); !slices.Equal(got, c.want) {
				t.Errorf("%s, %d bytes at a time: got %d messages %.60q, want %d %.60q", c.name, size, len(got), got, len(c.want), c.want)
			}
		}
	}
}

func TestFramingSaysWhatWasCut(t *testing.T) {
	var f Framer
	if frame := f.Next([]byte(strings.Repeat("x", MaxMessage+9))); !frame.Cut || len(frame.Message) != MaxMessage {
		t.Errorf("%d bytes, cut: %v", len(frame.Message), frame.Cut)
	}
}

func TestFramesAreAsThePlanSays(t *testing.T) {
	for _, c := range []struct {
		frames Frames
		stream string
		want   []string
	}{
		{LineFrames, "<13>a\nb\n5 <13>c\x00\n", []string{"<13>a", "b", "5 <13>c\x00"}},
		{NulFrames, "<13>a\nb\n\x005 <13>c\x00", []string{"<13>a\nb\n", "5 <13>c"}},
		{CountedFrames, "6 <13>a\n3 abc<13>b\nc\n", []string{"<13>a\n", "abc", "<13>b", "c"}},
	} {
		f := Framer{Frames: c.frames}
		var got []string
		for b := []byte(c.stream); ; {
			frame := f.Next(b)
			if b = b[frame.Size:]; frame.Message == nil {
				break
			}
			if len(frame.Message) > 0 {
				got = append(got, string(frame.Message))
			}
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.frames, got, c.want)
		}
	}
}

// A message that may go on is told, so that its reader waits no longer than a moment.
func TestAnOpenMessageIsSettled(t *testing.T) {
	var f Framer
	b := []byte("<13>a\n  at b\n<1")
	if frame := f.Next(b); frame.Message != nil || !f.Open() {
		t.Fatalf("%q", frame.Message)
	}
	frame := f.Settle(b)
	if string(frame.Message) != "<13>a\n  at b" || string(b[frame.Size:]) != "<1" || f.Open() {
		t.Errorf("%q, and %q is left", frame.Message, b[frame.Size:])
	}
	if frame = f.Next([]byte("<13>c")); frame.Message != nil || f.Open() {
		t.Errorf("%q", frame.Message)
	}
}

func FuzzFramer(f *testing.F) {
	f.Add("<13>a\n5 <13>b\x00<13>c\r\n12 x", uint8(3))
	f.Fuzz(func(t *testing.T, stream string, size uint8) {
		whole, parts := split(stream, len(stream)+1), split(stream, int(size)+1)
		if !slices.Equal(whole, parts) {
			t.Errorf("at once %q, in parts %q", whole, parts)
		}
	})
}
