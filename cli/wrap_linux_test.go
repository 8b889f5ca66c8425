package cli

import (
	"strings"
	"testing"
)

func TestWrapSaysWhatIsNotThere(t *testing.T) {
	for to, want := range map[string]string{
		t.TempDir():              "no agent runs with this state folder",
		t.TempDir() + "/to.sock": "there is neither a socket nor the state folder of an agent",
	} {
		w := wrapper{to: to}
		if _, err := w.open(t.Context()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", to, err)
		}
	}
}
