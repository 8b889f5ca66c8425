// Package nearest finds the word that somebody meant. It knows nothing of the
// rest of the project.
package nearest

import "strings"

// Word returns the one of known that word most likely is a slip of: the one
// with the fewest changed, missing, additional or swapped letters, at most
// about a third of the word. Letter case does not count.
func Word(word string, known []string) (string, bool) {
	best, found := len(word)/3+1, ""
	if len(word) < 3 {
		best = 2
	}
	for _, k := range known {
		if d := distance(strings.ToLower(word), strings.ToLower(k)); d < best && d < len(k) {
			best, found = d, k
		}
	}
	return found, found != ""
}

// distance counts the edits between a and b; a swap of neighbours is one edit.
func distance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	before, last := make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row := make([]int, len(b)+1)
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last = last, row
	}
	return last[len(b)]
}
