package wire

import (
	"fmt"
	"testing"
)

func TestLinesOfContainersAreUnwrapped(t *testing.T) {
	var u Unwrapper
	for _, c := range []struct{ line, want string }{
		{`{"log":"out1\n","stream":"stdout","attrs":{"app":"web"},"time":"2026-11-25T01:20:16.6008093Z"}`, `"out1" stdout 2026-11-25T01:20:16.6008093Z whole true`},
		{`{"log":"half","stream":"stderr","time":"2026-11-25T01:20:16.6008093Z"}`, `"half" stderr 2026-11-25T01:20:16.6008093Z part true`},
		{`{"log":"typed\r\n","stream":"stdout","time":"2026-11-25T01:20:16Z"}`, `"typed" stdout 2026-11-25T01:20:16Z whole true`},
		{`{"log":"\u003ca\u003e\tb\n","stream":"stdout","time":"x"}`, "\"<a>\\tb\" stdout  whole true"},
		{`{"log":"\n","stream":"stdout","time":"2026-11-25T01:20:16Z"}`, `"" stdout 2026-11-25T01:20:16Z whole true`},
		{`{"log":7}`, `"{\"log\":7}"   whole false`},
		{`not json`, `"not json"   whole false`},
	} {
		w, ok := u.Docker([]byte(c.line))
		expectWrapped(t, c.line, w, ok, c.want)
	}
	for _, c := range []struct{ line, want string }{
		{"2026-11-25T01:18:58.235404165+00:00 stdout F two words", `"two words" stdout 2026-11-25T01:18:58.235404165+00:00 whole true`},
		{"2026-11-25T01:18:58.235404165Z stderr P begin", `"begin" stderr 2026-11-25T01:18:58.235404165Z part true`},
		{"2026-11-25T01:18:58Z stdout F:x:y tagged", `"tagged" stdout 2026-11-25T01:18:58Z whole true`},
		{"2026-11-25T01:18:58Z stdout F ", `"" stdout 2026-11-25T01:18:58Z whole true`},
		{"2026-11-25T01:18:58Z stdout F", `"" stdout 2026-11-25T01:18:58Z whole true`},
		{"2026-11-25T01:18:58Z stdout X text", `"2026-11-25T01:18:58Z stdout X text"   whole false`},
		{"2026-11-25T01:18:58Z stdin F text", `"2026-11-25T01:18:58Z stdin F text"   whole false`},
		{"text", `"text"   whole false`},
		{"", `""   whole false`},
	} {
		w, ok := u.CRI([]byte(c.line))
		expectWrapped(t, c.line, w, ok, c.want)
	}
}

func expectWrapped(t *testing.T, line string, w Wrapped, ok bool, want string) {
	t.Helper()
	part, at := "whole", ""
	if w.Part {
		part = "part"
	}
	if !w.Time.IsZero() {
		at = w.Time.String()
	}
	if got := fmt.Sprintf("%q %s %s %s %v", w.Text, w.Stream, at, part, ok); got != want {
		t.Errorf("%s:\n got %s\nwant %s", line, got, want)
	}
}

func FuzzUnwrapper(f *testing.F) {
	f.Add([]byte(`{"log":"a\n","stream":"stdout","time":"2026-11-25T01:20:16Z"}`))
	f.Add([]byte("2026-11-25T01:18:58Z stdout P a"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var u Unwrapper
		for _, read := range []func([]byte) (Wrapped, bool){u.Docker, u.CRI} {
			if w, ok := read(b); !ok && (string(w.Text) != string(b) || w.Part) {
				t.Fatalf("%q became %q", b, w.Text)
			}
		}
	})
}
