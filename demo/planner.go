package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// planner is a program that writes a log file of its own, under
// DIR/reef-02/planner: what the tanks are fed. Where it fails it writes a stack
// trace. It renames its file by itself now and then.
func planner(ctx context.Context, dir string) error {
	path := filepath.Join(dir, "reef-02", "planner", "planner.log")
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	rnd := rand.New(rand.NewPCG(12, 32473))
	return again(ctx, 400*time.Millisecond, func(n int, now time.Time) error {
		if n%500 == 0 {
			if err := os.Rename(path, path+".1"); err != nil {
				return err
			}
		}
		return appendTo(path, planned(rnd, now, n))
	})
}

// planned is what the planner writes at a time.
func planned(rnd *rand.Rand, now time.Time, n int) string {
	at, tank := now.Format("2006-01-02 15:04:05,000"), 1+rnd.IntN(9)
	switch {
	case n%60 == 30:
		return fmt.Sprintf(`%s ERROR no portion for tank %d
Traceback (most recent call last):
  File "planner.py", line 88, in feed
    portion = stock.take(tank.diet, grams)
  File "stock.py", line 41, in take
    raise Empty(diet)
stock.Empty: frozen krill
`, at, tank)
	case n%20 == 10:
		return fmt.Sprintf("%s WARN tank %d was fed %d min late\n", at, tank, 2+rnd.IntN(9))
	}
	return fmt.Sprintf("%s INFO tank %d fed, %d g of %s\n", at, tank, 20+rnd.IntN(80), []string{"krill", "algae", "mussel"}[rnd.IntN(3)])
}

func appendTo(path, text string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	if _, err = f.WriteString(text); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}
