package cli

import (
	"fmt"
	"strconv"
	"time"
)

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Second:
		return "now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min ago", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

func agoOrNever(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return ago(*t)
}

// clock writes a time for people, with its offset in sight.
func clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05 -07:00") }

// count writes a number with its thousands parted.
func count(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return count(int64(n)) + " " + what + "s"
}

// size writes bytes in binary units.
func size(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	v, unit := float64(n)/1024, 0
	for v >= 1024 && unit < 3 {
		v, unit = v/1024, unit+1
	}
	return fmt.Sprintf("%.1f %ciB", v, "KMGT"[unit])
}
