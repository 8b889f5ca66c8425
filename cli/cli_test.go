package cli

import (
	"bytes"
	"testing"
	"time"
)

func TestTable(t *testing.T) {
	var out bytes.Buffer
	(&app{stdout: &out}).table([][]string{{"NAME", "READ", "LAST"}, {"größe", "1,234", "now"}, {"x\x1b[2J", "5", ""}})
	want := "  NAME         READ  LAST\n  größe       1,234  now\n  x\\u001b[2J      5\n"
	if out.String() != want {
		t.Errorf("got\n%swant\n%s", out.String(), want)
	}
}

func TestNumbersForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567", 100000: "100,000"} {
		if got := count(n); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 10 << 20: "10.0 MiB", 3 << 29: "1.5 GiB", 5 << 42: "20.0 TiB"} {
		if got := size(n); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
	}
	for d, want := range map[time.Duration]string{0: "now", 5 * time.Second: "5 s ago", 90 * time.Second: "1 min ago", 25*time.Hour + 30*time.Minute: "25 h 30 min ago", 72 * time.Hour: "3 days ago"} {
		if got := ago(time.Now().Add(-d)); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}
