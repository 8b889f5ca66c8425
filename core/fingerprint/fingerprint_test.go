package fingerprint

import (
	"strings"
	"testing"
)

func TestParseTakesWhatPeopleHave(t *testing.T) {
	want := Of([]byte("a certificate"))
	text := want.String()
	pairs := strings.TrimPrefix(text, "sha256:")
	if len(pairs) != 95 {
		t.Fatal(text)
	}
	for _, form := range []string{text, pairs, strings.ToLower(pairs), strings.ReplaceAll(pairs, ":", ""), "SHA-256:" + pairs, " " + text + "\n", "sha256" + strings.ReplaceAll(pairs, ":", "")} {
		if got, err := Parse(form); err != nil || got != want {
			t.Errorf("%q: %v, %v", form, got, err)
		}
	}
	for _, form := range []string{"", "sha256", "sha256:", pairs[:92], pairs + ":00", "sha1:" + pairs, strings.Replace(pairs, pairs[:1], "g", 1)} {
		if _, err := Parse(form); err == nil {
			t.Errorf("%q is taken", form)
		}
	}
}
