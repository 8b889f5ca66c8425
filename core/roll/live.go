package roll

import (
	"path/filepath"
	"slices"
	"strings"
)

// LiveFiles returns the live files that patterns find, in the order of their
// names, also those that are gone and have left pieces or a tally. What is a
// piece of another one is not among them.
func LiveFiles(patterns []string) (files []string) {
	for _, pattern := range patterns {
		tallies, _ := filepath.Glob(pattern + TallySuffix)
		for _, path := range tallies {
			files = append(files, strings.TrimSuffix(path, TallySuffix))
		}
		found, _ := filepath.Glob(pattern)
		for _, path := range found {
			live, isPiece := LiveOf(path)
			counted, maybe := CountedLiveOf(path)
			switch {
			case strings.HasSuffix(path, TallySuffix) || strings.HasPrefix(filepath.Base(path), "."):
			case isPiece:
				if match, _ := filepath.Match(pattern, live); match {
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
