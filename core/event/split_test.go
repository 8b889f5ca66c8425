package event

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

func TestEventsOfATextAreLines(t *testing.T) {
	a, b := wrapped("", "<EventData><Data Name='x'>1\r\n2</Data></EventData>"), wrapped("", "")
	one, two := strings.ReplaceAll(a, "\r\n", "&#10;"), b
	for text, want := range map[string]string{
		"":             "",
		a + b:          one + "\n" + two + "\n",
		a + "\r\n" + b: one + "\n" + two + "\n",
		"\ufeff<?xml version='1.0'?>\n<Events>\n" + a + "\n\n" + b + "</Events>\n": one + "\n" + two + "\n",
		"<Events><!-- two -->" + a + "pump" + b + "</Events>the end":               one + "\npump\n" + two + "\nthe end\n",
		a + "<Event><System>": one + "\n<Event><System>",
		wrapped("", "<EventData><Data>"+strings.Repeat("x", 70_000)+"</Data></EventData>") + b: wrapped("", "<EventData><Data>"+strings.Repeat("x", 70_000)+"</Data></EventData>") + "\n" + two + "\n",
	} {
		for how, in := range map[string]io.Reader{"whole": strings.NewReader(text), "in pieces": iotest.OneByteReader(strings.NewReader(text))} {
			got, err := io.ReadAll(NewSplitter(in))
			if err != nil || string(got) != want {
				t.Errorf("%s: %.300q: %v\n%.300q, not\n%.300q", how, text, err, got, want)
			}
		}
	}
}

// TestTheEndOfAnEventAcrossBuffers cuts the end tag of an event at each of its bytes.
func TestTheEndOfAnEventAcrossBuffers(t *testing.T) {
	for cut := range 12 {
		pad := strings.Repeat("x", 64<<10-len("<Event>")-cut)
		text := "<Event>" + pad + "</Event><Event>2</Event>"
		got, err := io.ReadAll(NewSplitter(strings.NewReader(text)))
		if err != nil || bytes.Count(got, []byte("\n")) != 2 {
			t.Errorf("cut at %d: %v, %d lines", cut, err, bytes.Count(got, []byte("\n")))
		}
	}
}
