package cli

import (
	"testing"
	"time"
)

func TestMomentsAsPeopleWriteThem(t *testing.T) {
	zone := time.FixedZone("", 3600)
	now := time.Date(2026, 11, 25, 10, 15, 0, 0, zone)
	for text, want := range map[string]string{
		"15m":                       "2026-11-25T10:00:00+01:00",
		"7d":                        "2026-11-18T10:15:00+01:00",
		"2026-11-25T09:00:00Z":      "2026-11-25T09:00:00Z",
		"today":                     "2026-11-25T00:00:00+01:00",
		"yesterday":                 "2026-11-24T00:00:00+01:00",
		"Yesterday 23:30":           "2026-11-24T23:30:00+01:00",
		"today 12:30":               "2026-11-25T12:30:00+01:00",
		"09:30":                     "2026-11-25T09:30:00+01:00",
		"12:30":                     "2026-11-24T12:30:00+01:00",
		"12:30:15":                  "2026-11-24T12:30:15+01:00",
		"2026-11-20":                "2026-11-20T00:00:00+01:00",
		"2026-11-20 08:00":          "2026-11-20T08:00:00+01:00",
		"2026-11-20T08:00":          "2026-11-20T08:00:00+01:00",
		"2026-11-20T08:00:01":       "2026-11-20T08:00:01+01:00",
		"2026-11-31":                "",
		"tomorrow":                  "",
		"25:00":                     "",
		"today noon":                "",
		"-5m":                       "",
		"yesterday yesterday 12:30": "",
	} {
		got := ""
		if at, err := parseMoment("--since", text, now); err == nil {
			got = at.Format(time.RFC3339)
		}
		if got != want {
			t.Errorf("%q is %s, want %s", text, got, want)
		}
	}
}
