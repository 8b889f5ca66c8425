// Package roomtest finds room for what tests of agents write.
package roomtest

import (
	"fmt"
	"os"

	"oakbarrel/core/disk"
)

// leastFree is how much of a disk has to be free for tests, in percent: by their plans agents leave
// 5 percent, and hold what they take in below.
const leastFree = 6

// Find has this process, and what it starts, keep temporary files in memory where the disk for
// them is nearly full.
func Find() error {
	usual := os.TempDir()
	for _, dir := range []string{usual, "/dev/shm"} {
		if size, free, err := disk.Space(dir); err == nil && free*100 >= size*leastFree {
			return os.Setenv("TMPDIR", dir)
		}
	}
	return fmt.Errorf("less than %d %% of the disk of %s are free: by their plans agents would hold what they take in (disk: {floor: 5%%}); remove something", leastFree, usual)
}
