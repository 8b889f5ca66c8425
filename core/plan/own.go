package plan

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"oakbarrel/core/paths"
)

// agentFiles are the files and folders in a state folder that are the agent's own. A
// plan from the service that could read or write them could have the agent be another,
// take plans that nobody served, or tell its token.
var agentFiles = []string{
	"agent-id", "connections.json", "control.sock", "damaged", "details.json", "followed", "forks.json", "intents", "kept.json", "kernel.json", "lock",
	"outlets.json", "pauses.json", "pipes", "plan.yaml", "refused", "served.json", "spool", "token.json", "told.json",
}

// twinSuffix ends the name of a file that says the same as another one.
const twinSuffix = ".twin"

// withState has bounds keep a plan from the agent's own files, also where the folder is
// reached by a symbolic link.
func (b *Bounds) withState(dir string) *Bounds {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	b.state = []string{filepath.Clean(dir)}
	if real, err := filepath.EvalSymlinks(dir); err == nil && real != b.state[0] {
		b.state = append(b.state, real)
	}
	return b
}

// place is what stands for a property of a record in a path.
var place = regexp.MustCompile(`\{[^}]*\}`)

// isAgents tells whether a path with patterns or places can be a file of the agent's own.
func (b *Bounds) isAgents(path string) bool {
	pattern := paths.Parts(place.ReplaceAllString(filepath.Clean(path), "*"))
	return slices.ContainsFunc(b.state, func(dir string) bool {
		return slices.ContainsFunc(agentFiles, func(name string) bool {
			return reaches(pattern, append(paths.Parts(dir), name))
		})
	})
}

// reaches tells whether a pattern fits a path, its twin, or something in it.
func reaches(pattern, path []string) bool {
	switch {
	case len(path) == 0:
		return true
	case len(pattern) == 0:
		return false
	case pattern[0] == "**":
		return reaches(pattern[1:], path) || reaches(pattern, path[1:])
	case paths.MatchPart(pattern[0], path[0]):
		return reaches(pattern[1:], path[1:])
	}
	return len(path) == 1 && (paths.MatchPart(pattern[0], path[0]+twinSuffix) || strings.HasPrefix(pattern[0], path[0]+"."))
}
