package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// imports returns what each package below root imports, tests left out.
func imports(t *testing.T, root string) map[string][]string {
	t.Helper()
	found := map[string][]string{}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		folder := filepath.Dir(path)
		for _, spec := range f.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			found[folder] = append(found[folder], name)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

// The core computes. It has no HTTP, no database, no terminal, nothing of ours
// outside itself, and few libraries; what it wants of the machine, it has by disk.
func TestCoreStandsAlone(t *testing.T) {
	allowed := []string{"github.com/klauspost/compress/", "github.com/goccy/go-yaml", "golang.org/x/sys/unix", "golang.org/x/sys/windows", "github.com/fsnotify/fsnotify", "go.opentelemetry.io/proto/otlp/", "google.golang.org/protobuf/"}
	for folder, names := range imports(t, ".") {
		for _, name := range names {
			first, _, _ := strings.Cut(name, "/")
			ok := !strings.Contains(first, ".") && name != "net" && !strings.HasPrefix(name, "net/http") && !strings.HasPrefix(name, "database/")
			for _, a := range allowed {
				ok = ok || strings.HasPrefix(name, a)
			}
			if first == "oakbarrel" {
				ok = strings.HasPrefix(name, "oakbarrel/core/") && name != "oakbarrel/core/plan"
			}
			if slices.Contains([]string{"os", "os/user", "os/exec", "syscall", "golang.org/x/sys/unix", "golang.org/x/sys/windows"}, name) {
				ok = folder == "disk" // what asks the machine or changes it
			}
			if folder == "plan" && name == "net" {
				ok = true // to take addresses apart; it opens nothing
			}
			if !ok {
				t.Errorf("%s imports %s", folder, name)
			}
		}
	}
}

// Arrows between the parts point one way: cli to agent, service and demo,
// these to client, and all to core. Of agent and service neither knows the other.
func TestImportsPointOneWay(t *testing.T) {
	may := map[string][]string{
		"cmd/oakbarrel": {"oakbarrel/cli"},
		"cli":           {"oakbarrel/agent", "oakbarrel/service", "oakbarrel/demo", "oakbarrel/client", "oakbarrel/metrics", "oakbarrel/unit", "oakbarrel/core/"},
		"agent":         {"oakbarrel/agent/", "oakbarrel/client", "oakbarrel/post", "oakbarrel/metrics", "oakbarrel/unit", "oakbarrel/core/"},

		// Of the parts of an agent, ways in and ways out do not know each other, and
		// nobody knows the agent.
		"agent/guard":      {"oakbarrel/client"},
		"agent/credential": {"oakbarrel/client", "oakbarrel/core/"},
		"agent/state":      {"oakbarrel/client", "oakbarrel/core/"},
		"agent/watch":      {"oakbarrel/client", "oakbarrel/core/"},
		"agent/intake":     {"oakbarrel/agent/guard", "oakbarrel/agent/state", "oakbarrel/agent/credential", "oakbarrel/client", "oakbarrel/unit", "oakbarrel/core/"},
		"agent/outlet":     {"oakbarrel/agent/guard", "oakbarrel/agent/state", "oakbarrel/agent/credential", "oakbarrel/client", "oakbarrel/post", "oakbarrel/core/"},
		"agent/tend":       {"oakbarrel/client", "oakbarrel/core/"},
		"agent/figures":    {"oakbarrel/client", "oakbarrel/metrics"},
		"agent/link":       {"oakbarrel/agent/guard", "oakbarrel/agent/credential", "oakbarrel/client", "oakbarrel/core/"},
		"agent/control":    {"oakbarrel/agent/guard", "oakbarrel/agent/state", "oakbarrel/agent/intake", "oakbarrel/client", "oakbarrel/core/"},
		"agent/doctor":     {"oakbarrel/agent/control", "oakbarrel/agent/state", "oakbarrel/agent/credential", "oakbarrel/agent/intake", "oakbarrel/agent/outlet", "oakbarrel/client", "oakbarrel/core/"},

		"service":      {"oakbarrel/service/", "oakbarrel/console", "oakbarrel/client", "oakbarrel/post", "oakbarrel/metrics", "oakbarrel/unit", "oakbarrel/core/"},
		"metrics":      {"oakbarrel/core/"},
		"post":         {"oakbarrel/client"},
		"unit":         {},
		"packaging":    {"oakbarrel/cli", "oakbarrel/client"},
		"console":      {},
		"client":       {"oakbarrel/client", "oakbarrel/core/"},
		"demo":         {"oakbarrel/demo/", "oakbarrel/core/"},
		"demo/mariadb": {},
	}
	for folder, allowed := range may {
		found := imports(t, filepath.Join("..", folder))
		if len(found) == 0 {
			t.Errorf("there is no %s", folder)
		}
		for _, names := range found {
			for _, name := range names {
				ok := !strings.HasPrefix(name, "oakbarrel/")
				for _, a := range allowed {
					ok = ok || strings.HasPrefix(name, a)
				}
				if !ok {
					t.Errorf("%s imports %s", folder, name)
				}
			}
		}
	}
}
