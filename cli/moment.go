package cli

import (
	"fmt"
	"strings"
	"time"
)

// momentHelp tells how a moment may be written.
const momentHelp = "15m, 2h, 7d ago; yesterday, today 12:30, 12:30, 2026-11-25, 2026-11-25T10:15:00Z"

// parseMoment reads a time, or how long ago it was. What names no zone is of this
// machine's; a clock alone is the last time that it showed that.
func parseMoment(flag, text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		return t, nil
	}
	var days int
	if n, err := fmt.Sscanf(text+"\n", "%dd\n", &days); n == 1 && err == nil {
		return now.AddDate(0, 0, -days), nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	if t, ok := parseDay(strings.ToLower(text), now); ok {
		return t, nil
	}
	return time.Time{}, usageError("%s cannot be %q; write %s", flag, text, momentHelp)
}

// parseDay reads a day, a clock, or both.
func parseDay(text string, now time.Time) (time.Time, bool) {
	for _, layout := range []string{time.DateOnly, time.DateTime, "2006-01-02 15:04", "2006-01-02t15:04", "2006-01-02t15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, true
		}
	}
	year, month, date := now.Date()
	today := time.Date(year, month, date, 0, 0, 0, 0, now.Location())
	if at, ok := parseClock(text); ok {
		if t := onDay(today, at); !t.After(now) {
			return t, true
		}
		return onDay(today.AddDate(0, 0, -1), at), true
	}
	word, clock, both := strings.Cut(text, " ")
	day, known := map[string]time.Time{"today": today, "yesterday": today.AddDate(0, 0, -1)}[word]
	if !known || !both {
		return day, known
	}
	at, ok := parseClock(clock)
	return onDay(day, at), ok
}

func parseClock(text string) (time.Time, bool) {
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

func onDay(day, clock time.Time) time.Time {
	return time.Date(day.Year(), day.Month(), day.Day(), clock.Hour(), clock.Minute(), clock.Second(), 0, day.Location())
}
