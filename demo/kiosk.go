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
	f, err := os.OpenFile(filepath.Join(folder, "kiosk.log"), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	rnd := rand.New(rand.NewPCG(11, 32473))
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return nil
		case now := <-tick.C:
			if _, err := fmt.Fprintf(f, "%s screen %d: ticket %d sold, %d visitors\n", now.Format(time.RFC3339), 1+rnd.IntN(4), n, 1+rnd.IntN(5)); err != nil {
				return err
			}
		}
	}
}
