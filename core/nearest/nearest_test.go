package nearest

import "testing"

func TestWord(t *testing.T) {
	known := []string{"facility", "severity", "host", "app", "send", "when", "keep"}
	for word, want := range map[string]string{
		"facilty": "facility", "Severtiy": "severity", "hots": "host", "ap": "app", "sned": "send", "wen": "when", "keeps": "keep",
		"colour": "", "x": "", "zzzz": "", "": "",
	} {
		if got, ok := Word(word, known); got != want || ok != (want != "") {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
}
