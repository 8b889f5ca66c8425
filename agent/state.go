package agent

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"oakbarrel/core/disk"
)

// The files of a state folder.
const (
	lockFile    = "lock"
	idFile      = "agent-id"
	planFile    = "plan.yaml" // a copy of the plan in force, for commands that read the agent's files
	controlFile = "control.sock"
	intentsDir  = "intents"
	detailsFile = "details.json"
	kernelFile  = "kernel.json"
)

// state is an agent's own folder.
type state struct {
	dir  string
	id   string
	lock *os.File
}

// ErrStateInUse says that another agent has the state folder.
var ErrStateInUse = errors.New("another agent uses this state folder")

// openState opens the folder, makes it where it is missing, and locks it.
func openState(dir string) (*state, error) {
	for _, d := range []string{dir, filepath.Join(dir, intentsDir)} {
		if err := os.MkdirAll(d, 0o750); err != nil {
			return nil, err
		}
	}
	lock, err := os.OpenFile(filepath.Join(dir, lockFile), os.O_RDWR|os.O_CREATE, 0o640)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		pid, _ := os.ReadFile(lock.Name())
		lock.Close()
		return nil, fmt.Errorf("%s: %w, process %s", dir, ErrStateInUse, strings.TrimSpace(string(pid)))
	}
	lock.Truncate(0)
	fmt.Fprintln(lock, os.Getpid())
	s := &state{dir: dir, lock: lock}
	if s.id, err = readID(filepath.Join(dir, idFile)); err != nil {
		lock.Close()
		return nil, err
	}
	return s, nil
}

// Identity returns the id of the agent with a state folder, and makes both where
// they are missing. An agent may run meanwhile.
func Identity(stateDir string) (string, error) {
	if err := os.MkdirAll(stateDir, 0o750); err != nil {
		return "", err
	}
	return readID(filepath.Join(stateDir, idFile))
}

// readID returns the agent's random identity, made with the folder: an agent
// whose folder was lost is a new one.
func readID(path string) (string, error) {
	b, err := os.ReadFile(path)
	if id := strings.TrimSpace(string(b)); err == nil && len(id) == 32 {
		return id, nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	random := make([]byte, 16)
	rand.Read(random)
	id := hex.EncodeToString(random)
	return id, disk.WriteFile(disk.OS, path, []byte(id+"\n"), 0o640)
}

// save writes v down as JSON, in one step.
func (s *state) save(name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return disk.WriteFile(disk.OS, filepath.Join(s.dir, name), append(b, '\n'), 0o640)
}

// load reads into v what save wrote.
func (s *state) load(name string, v any) error {
	b, err := os.ReadFile(filepath.Join(s.dir, name))
	if err != nil {
		return err
	}
	return json.Unmarshal(b, v)
}

func (s *state) savePlan(source []byte) error {
	return disk.WriteFile(disk.OS, filepath.Join(s.dir, planFile), source, 0o640)
}

func (s *state) close() { s.lock.Close() }

// PlanCopy returns the path of the copy of the plan that the agent with this
// state folder has, or had last, in force.
func PlanCopy(stateDir string) string { return filepath.Join(stateDir, planFile) }
