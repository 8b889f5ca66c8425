package disk

import (
	"io/fs"
	"os"
)

// ReadFile reads a whole file of our own.
func ReadFile(path string) ([]byte, error) { return os.ReadFile(path) }

// ReadDir returns what stands in a folder, in the order of names.
func ReadDir(path string) ([]fs.DirEntry, error) { return os.ReadDir(path) }
