package roll

import (
	"path/filepath"
	"slices"
	"strings"

	"oakbarrel/core/paths"
)

// LiveFiles returns the live files that patterns find, in the order of their
// names, also those that are gone and have left pieces or a tally. What is a
// piece of another one is not among them.
func LiveFiles(patterns []string) (files []string) {
	for _, pattern := range patterns {
		for _, path := range paths.Find(pattern + TallySuffix) {
			files = append(files, strings.TrimSuffix(path, TallySuffix))
		}
		found := paths.Find(pattern)
		for _, path := range found {
			live, isPiece := LiveOf(path)
			counted, maybe := CountedLiveOf(path)
			switch {
			case strings.HasSuffix(path, TallySuffix) || strings.HasPrefix(filepath.Base(path), "."):
			case isPiece:
				if paths.Match(pattern, live) {
					files = append(files, live)
				}
			case maybe && slices.Contains(found, counted):
			default:
				files = append(files, path)
			}
		}
	}
	slices.Sort(files)
	return slices.Compact(files)
}
