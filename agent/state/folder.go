// Package state keeps an agent's own folder: its identity, what it has written
// down to go on from after a restart, and what was found damaged there.
//
// One agent has the folder locked while it runs. Small facts are saved as JSON in
// two files that say the same, each with a checksum, so that damage in one is
// mended from the other. Damage is told as [client.Damage] and the damaged file is
// put aside; it never keeps an agent from starting. Begin with [Open].
package state

import (
	"bytes"
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
	"time"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
)

// The files of a state folder.
const (
	lockFile   = "lock"
	IDFile     = "agent-id"  // which agent this is; every folder that was used has it
	planFile   = "plan.yaml" // a copy of the plan in force, for commands that read the agent's files
	intentsDir = "intents"
)

// Folder is an agent's own folder. All of it may be used by several goroutines
// at a time.
type Folder struct {
	dir   string
	run   string
	lock  *os.File
	alive *os.File // shows that this agent lives, nil where it cannot be shown
	log   *slog.Logger

	becoming sync.Mutex // is held while the agent becomes another, and taken before mu

	mu      sync.Mutex
	id      string
	damages []client.Damage // that were found in this run
	forks   []client.ForkStatus
	token   ownToken
}

// ErrInUse says that another agent has the state folder.
var ErrInUse = errors.New("another agent uses this state folder")

// Open opens the folder of an agent, makes it where it is missing, and locks it.
// The error wraps [ErrInUse] where another agent has it.
func Open(dir string, log *slog.Logger) (*Folder, error) {
	for _, d := range []string{dir, filepath.Join(dir, intentsDir)} {
		if err := makeFolder(d); err != nil {
			return nil, err
		}
	}
	lock, err := os.OpenFile(filepath.Join(dir, lockFile), os.O_RDWR|os.O_CREATE, 0o640)
	if err != nil {
		return nil, err
	}
	if err := lockWithin(lockTime, lock); err != nil {
		pid, _ := os.ReadFile(lock.Name())
		lock.Close()
		return nil, fmt.Errorf("%s: %w, process %s", dir, ErrInUse, strings.TrimSpace(string(pid)))
	}
	lock.Truncate(0)
	fmt.Fprintln(lock, os.Getpid())
	s := &Folder{dir: dir, run: NewID(), lock: lock, log: log}
	if err := s.open(); err != nil {
		lock.Close()
		return nil, err
	}
	return s, nil
}

// lockTime is for how long a folder may still be locked: a program that an agent was just
// starting when it was killed has the lock until it has begun.
const lockTime = 500 * time.Millisecond

func lockWithin(limit time.Duration, file *os.File) error {
	for begun := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		err := disk.Lock(file)
		if err == nil || time.Since(begun) > limit {
			return err
		}
	}
}

// open reads what stands in the folder. Where it is a copy of that of an agent which
// lives on this machine, this one becomes another before it sends anything.
func (s *Folder) open() (err error) {
	if s.id, err = readID(filepath.Join(s.dir, IDFile), s.PutAside); err != nil {
		return err
	}
	for name, v := range map[string]any{forksFile: &s.forks, tokenFile: &s.token} {
		if err := s.Load(name, v); err != nil && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, ErrDamaged) {
			return err
		}
	}
	if !s.isAlive(s.id) {
		return nil
	}
	return s.BecomeAnother(s.id, client.ForkStatus{What: "another agent of this machine has the identity of this folder, which is a copy of the other's", Mend: "let it in with: oakbarrel hosts adopt"})
}

// Identity returns the id of the agent with a state folder, and makes both where
// they are missing. An agent may run meanwhile.
func Identity(stateDir string) (string, error) {
	if err := makeFolder(stateDir); err != nil {
		return "", err
	}
	return readID(filepath.Join(stateDir, IDFile), func(client.Damage) {})
}

// ReadID returns the id of the agent with a state folder, and whether it has one.
// It changes nothing.
func ReadID(stateDir string) (id string, known bool) {
	b, _ := os.ReadFile(filepath.Join(stateDir, IDFile))
	id = strings.TrimSpace(string(b))
	return id, isID(id)
}

// readID returns an agent's random identity, made with the folder: an agent
// whose folder was lost is a new one. It stands in two files, of which the
// second has a checksum, so that a damaged one makes no other agent.
func readID(path string, tell func(client.Damage)) (string, error) {
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
			tell(client.Damage{Part: "agent", File: path, Cost: "nothing: the id is known from its twin"})
		}
		id = kept
	case isID(id):
		if twinErr == nil {
			tell(client.Damage{Part: "agent", File: path + twinSuffix, Cost: "nothing: the id is known from the other file"})
		}
	default:
		if !missing {
			tell(client.Damage{Part: "agent", File: path, Cost: "its identity: from now on it is another agent, whose feeds begin anew"})
		}
		id = NewID()
	}
	return id, writeID(path, id)
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

// Dir returns the path of the folder.
func (s *Folder) Dir() string { return s.dir }

// AgentID returns the identity of the agent, 32 hexadecimal digits.
func (s *Folder) AgentID() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.id
}

// Save writes v down as JSON, in two files one after the other, each in one step.
func (s *Folder) Save(name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	b = sealed(append(b, '\n'))
	path := filepath.Join(s.dir, name)
	return errors.Join(disk.WriteFile(disk.OS, path, b, 0o640), disk.WriteFile(disk.OS, path+twinSuffix, b, 0o640))
}

// ErrDamaged says that both files of what was saved are damaged.
var ErrDamaged = errors.New("what was written down is damaged")

// Load reads into v what [Folder.Save] wrote. Damage is told, and mended where one
// of the two files is sound. The error wraps [fs.ErrNotExist] where nothing was
// saved, and [ErrDamaged] where both files are damaged.
func (s *Folder) Load(name string, v any) error {
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
		s.PutAside(client.Damage{Part: "agent", File: d, Cost: cost})
	}
	switch {
	case found:
		return nil
	case len(damaged) == 0:
		return missing
	}
	return fmt.Errorf("%s: %w", path, ErrDamaged)
}

// SavePlan writes the copy of the plan in force.
func (s *Folder) SavePlan(source []byte) error {
	return disk.WriteFile(disk.OS, filepath.Join(s.dir, planFile), source, 0o640)
}

// Close gives the folder free for another agent.
func (s *Folder) Close() {
	s.showDead()
	s.lock.Close()
}

// PlanCopy returns the path of the copy of the plan that the agent with this
// state folder has, or had last, in force.
func PlanCopy(stateDir string) string { return filepath.Join(stateDir, planFile) }

// Intents returns the path of the folder for the notes of writes that are under way.
func (s *Folder) Intents() string { return filepath.Join(s.dir, intentsDir) }

// NameFor returns the name of what is noted about the file at a path.
func NameFor(path string) string { return plan.Hash([]byte(path))[:24] }
