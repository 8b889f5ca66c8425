package agent

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"

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
	log  *slog.Logger

	mu      sync.Mutex
	damages []Damage // that were found in this run
}

// ErrStateInUse says that another agent has the state folder.
var ErrStateInUse = errors.New("another agent uses this state folder")

// openState opens the folder, makes it where it is missing, and locks it.
func openState(dir string, log *slog.Logger) (*state, error) {
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
	s := &state{dir: dir, lock: lock, log: log}
	if s.id, err = readID(filepath.Join(dir, idFile), s.putAside); err != nil {
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
	return readID(filepath.Join(stateDir, idFile), func(Damage) {})
}

// readID returns the agent's random identity, made with the folder: an agent
// whose folder was lost is a new one. It stands in two files, of which the
// second has a checksum, so that a damaged one makes no other agent.
func readID(path string, tell func(Damage)) (string, error) {
	b, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	twin, twinErr := os.ReadFile(path + twinSuffix)
	id, kept := strings.TrimSpace(string(b)), ""
	if content, ok := unsealed(twin); ok {
		kept = strings.TrimSpace(string(content))
	}
	missing := errors.Is(err, os.ErrNotExist) && errors.Is(twinErr, os.ErrNotExist)
	switch {
	case isID(kept) && kept == id:
		return id, nil
	case isID(kept):
		if err == nil {
			tell(Damage{Part: "agent", File: path, Cost: "nothing: the id is known from its twin"})
		}
		id = kept
	case isID(id):
		if twinErr == nil {
			tell(Damage{Part: "agent", File: path + twinSuffix, Cost: "nothing: the id is known from the other file"})
		}
	default:
		if !missing {
			tell(Damage{Part: "agent", File: path, Cost: "its identity: from now on it is another agent, whose feeds begin anew"})
		}
		random := make([]byte, 16)
		rand.Read(random)
		id = hex.EncodeToString(random)
	}
	return id, errors.Join(disk.WriteFile(disk.OS, path, []byte(id+"\n"), 0o640), disk.WriteFile(disk.OS, path+twinSuffix, sealed([]byte(id+"\n")), 0o640))
}

// isID tells whether a text is the id of an agent.
func isID(s string) bool {
	_, err := hex.DecodeString(s)
	return err == nil && len(s) == 32
}

const twinSuffix = ".twin"

// sealed appends a line with a checksum of what stands before it.
func sealed(content []byte) []byte {
	return fmt.Appendf(content[:len(content):len(content)], "#%08x\n", crc32.ChecksumIEEE(content))
}

// unsealed returns the content without its checksum, and whether that fits.
func unsealed(b []byte) (content []byte, ok bool) {
	at := bytes.LastIndexByte(bytes.TrimSuffix(b, []byte{'\n'}), '\n') + 1
	return b[:at], at > 0 && bytes.Equal(sealed(b[:at]), b)
}

// save writes v down as JSON, in two files one after the other, each in one step.
func (s *state) save(name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	b = sealed(append(b, '\n'))
	path := filepath.Join(s.dir, name)
	return errors.Join(disk.WriteFile(disk.OS, path, b, 0o640), disk.WriteFile(disk.OS, path+twinSuffix, b, 0o640))
}

// errDamaged says that both files of what was saved are damaged.
var errDamaged = errors.New("what was written down is damaged")

// load reads into v what save wrote. Damage is told, and mended where one of the
// two files is sound.
func (s *state) load(name string, v any) error {
	path := filepath.Join(s.dir, name)
	var missing error
	var damaged []string
	found := false
	for _, p := range []string{path, path + twinSuffix} {
		b, err := os.ReadFile(p)
		if err != nil {
			missing = err
			continue
		}
		content, ok := unsealed(b)
		if !ok && p == path && !bytes.Contains(b, []byte("\n#")) { // the version before wrote no checksum
			content, ok = b, json.Valid(b)
		}
		if !ok || !found && json.Unmarshal(content, v) != nil {
			damaged = append(damaged, p)
			continue
		}
		found = true
	}
	cost := "what stood in it; the agent goes on as without it"
	if found {
		cost = "nothing: it is known from its twin"
	}
	for _, d := range damaged {
		s.putAside(Damage{Part: "agent", File: d, Cost: cost})
	}
	switch {
	case found:
		return nil
	case len(damaged) == 0:
		return missing
	}
	return fmt.Errorf("%s: %w", path, errDamaged)
}

func (s *state) savePlan(source []byte) error {
	return disk.WriteFile(disk.OS, filepath.Join(s.dir, planFile), source, 0o640)
}

func (s *state) close() { s.lock.Close() }

// PlanCopy returns the path of the copy of the plan that the agent with this
// state folder has, or had last, in force.
func PlanCopy(stateDir string) string { return filepath.Join(stateDir, planFile) }
