package record

import "testing"

func TestAReaderThatRemembersTheMinuteReadsAsOneThatDoesNot(t *testing.T) {
	var r StampReader
	for _, text := range []string{
		"\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00:00Z", "2026-11-25T10:20:30Z", "2026-11-25T10:20:31.5+01:00", "2026-11-25T10:20:60Z",
		"2026-11-25T10:20x31Z", "2026-11-25T10:21:30Z", "2026-11-26T10:21:30Z", "2026-13-26T10:21:30Z", "2026-13-26T10:21:30Z", "2026-11-26T10:21:30Z",
	} {
		got, n, ok := r.Read([]byte(text))
		want, wantN, wantOK := ParseStamp([]byte(text))
		if got != want || n != wantN || ok != wantOK {
			t.Errorf("%q: %v, %d, %v instead of %v, %d, %v", text, got, n, ok, want, wantN, wantOK)
		}
	}
	if _, _, ok := ParseStamp(make([]byte, 20)); ok {
		t.Error("NULs pass for a stamp")
	}
}
