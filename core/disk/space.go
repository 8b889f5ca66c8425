package disk

import (
	"os"
	"path/filepath"
)

// Existing returns a folder, or the nearest above it that exists.
func Existing(folder string) string {
	for {
		if _, err := os.Stat(folder); err == nil || folder == filepath.Dir(folder) {
			return folder
		}
		folder = filepath.Dir(folder)
	}
}
