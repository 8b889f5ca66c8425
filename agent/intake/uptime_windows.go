package intake

import (
	"time"

	"golang.org/x/sys/windows"
)

// uptime is how long ago the machine was started.
func uptime() time.Duration { return windows.DurationSinceBoot() }
