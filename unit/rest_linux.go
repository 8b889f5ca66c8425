package unit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// After mostFailures starts that came to nothing the next one waits for restTime: who
// looks finds the reason, and not a thousand of it.
const (
	mostFailures = 5
	restTime     = time.Minute
)

// Rest notes that the process could not begin, and waits where it could not many times
// in a row before; Ready ends the row. The manager starts it again.
func (m *Manager) Rest(ctx context.Context, why error) {
	if !m.Manages() || m.failures == "" {
		return
	}
	text, _ := os.ReadFile(m.failures)
	n, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	os.WriteFile(m.failures, []byte(strconv.Itoa(n+1)), 0o600)
	if n < mostFailures {
		return
	}
	m.Status(fmt.Sprintf("could not be started %d times, and is tried again each minute: %v", n+1, why))
	select {
	case <-ctx.Done():
	case <-time.After(restTime):
	}
}

// failuresFile is where a process notes how often it could not begin.
func failuresFile() string {
	dir, _, _ := strings.Cut(os.Getenv("RUNTIME_DIRECTORY"), ":")
	if dir == "" {
		return ""
	}
	return filepath.Join(dir, "failures")
}
