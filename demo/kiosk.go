package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// kiosk is a program that insists on a log file of its own, under DIR/tide-gw/kiosk:
// the ticket screens. The agent tends the file.
func kiosk(ctx context.Context, dir string) error {
	folder := filepath.Join(dir, "tide-gw", "kiosk")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	path, rnd := filepath.Join(folder, "kiosk.log"), rand.New(rand.NewPCG(11, 32473))
	return again(ctx, 100*time.Millisecond, func(n int, now time.Time) error {
		return appendTo(path, fmt.Sprintf("%s screen %d: ticket %d sold, %d visitors\n", now.Format(time.RFC3339), 1+rnd.IntN(4), n, 1+rnd.IntN(5)))
	})
}

// again calls do with 1, 2 and so on, each after a pause, until ctx ends or it fails.
func again(ctx context.Context, pause time.Duration, do func(n int, now time.Time) error) error {
	tick := time.NewTicker(pause)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return nil
		case now := <-tick.C:
			if err := do(n, now); err != nil {
				return err
			}
		}
	}
}
