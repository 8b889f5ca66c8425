package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// span is how long something holds, as a flag: 90m, 24h, 1d.
type span time.Duration

const (
	leastSpan = span(time.Minute)
	mostSpan  = span(30 * 24 * time.Hour)
)

func (s *span) String() string { return brief(time.Duration(*s)) }
func (s *span) Type() string   { return "duration" }

// Set implements pflag.Value.
func (s *span) Set(text string) error {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.ParseUint(days, 10, 16); err == nil {
			*s = span(n) * span(24*time.Hour)
			return nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		return fmt.Errorf("write how long, such as 90m, 24h or 1d")
	}
	*s = span(d)
	return nil
}

// fits tells whether it is one that a service takes.
func (s span) fits() bool { return s >= leastSpan && s <= mostSpan }

func (s span) minutes() int { return int(time.Duration(s) / time.Minute) }

// times tells how often something may be done.
func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
