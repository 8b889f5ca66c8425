package state

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/disk"
)

const (
	forksFile = "forks.json"
	tokenFile = "token.json"
	mostForks = 20
)

// NewID returns a random id of an agent or a run, 32 hexadecimal digits.
func NewID() string {
	random := make([]byte, 16)
	rand.Read(random)
	return hex.EncodeToString(random)
}

// Run returns what tells this start of the agent from all others, 32 hexadecimal digits.
func (s *Folder) Run() string { return s.run }

// Machine returns a hash of what tells this machine from others, as far as it knows:
// a copy of a whole machine may have the same until somebody gives it another id.
func (s *Folder) Machine() string {
	hash := sha256.New()
	name, _ := os.Hostname() // containers of one image have nothing else of their own
	fmt.Fprintln(hash, name)
	for _, file := range []string{"/etc/machine-id", "/sys/class/dmi/id/product_uuid"} {
		b, _ := os.ReadFile(file)
		fmt.Fprintf(hash, "%s\n", strings.TrimSpace(string(b)))
	}
	return hex.EncodeToString(hash.Sum(nil)[:16])
}

// BecomeAnother gives the agent another identity than the one it was found to share,
// unless it has done so already, for another of its feeds.
func (s *Folder) BecomeAnother(was string, fork client.ForkStatus) error {
	s.becoming.Lock()
	defer s.becoming.Unlock()
	if s.AgentID() != was {
		return nil
	}
	id := NewID()
	fork.Was = was
	if err := writeID(filepath.Join(s.dir, IDFile), id); err != nil {
		return err
	}
	s.mu.Lock()
	s.id = id
	s.mu.Unlock()
	s.showDead()
	s.isAlive(id)
	s.AddFork(fork)
	return nil
}

// AddFork keeps that the folder was found to be a copy, or to be set back.
func (s *Folder) AddFork(f client.ForkStatus) {
	f.At = time.Now()
	s.log.Error(f.What, "outlet", f.Outlet, "was", f.Was, "mend", f.Mend)
	s.mu.Lock()
	s.forks = append([]client.ForkStatus{f}, s.forks...)
	s.forks = s.forks[:min(len(s.forks), mostForks)]
	forks := slices.Clone(s.forks)
	s.mu.Unlock()
	if err := s.Save(forksFile, forks); err != nil {
		s.log.Warn("it cannot be written down that the folder is a copy", "why", err)
	}
}

// Forks returns what was found of copies of the folder, the newest first.
func (s *Folder) Forks() []client.ForkStatus {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]client.ForkStatus{}, s.forks...)
}

// isAlive tells whether another agent of this machine lives under an id, and else
// shows that this one does. Where that cannot be shown the store finds it out.
func (s *Folder) isAlive(id string) bool {
	dir := aliveDir()
	if dir == "" || disk.MakePrivateFolder(dir) != nil {
		return false
	}
	f, err := os.OpenFile(filepath.Join(dir, id), os.O_RDWR|os.O_CREATE|noFollow, 0o600)
	if err != nil {
		return false
	}
	if err := disk.Lock(f); err != nil {
		f.Close()
		return errors.Is(err, disk.ErrLocked)
	}
	s.alive = f
	return false
}

// showDead ends to show that this agent lives.
func (s *Folder) showDead() {
	if s.alive != nil {
		removeOpen(s.alive)
		s.alive = nil
	}
}

// ownToken is a token that the store gave this agent in the place of the one in a file.
type ownToken struct {
	Of    string `json:"of"` // a hash of the one in the file
	Token string `json:"token"`
}

// TokenFor returns the token that the store gave this agent in the place of one, or
// that one.
func (s *Folder) TokenFor(token string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.token.Token != "" && s.token.Of == hashOf(token) {
		return s.token.Token
	}
	return token
}

// TokenIn is TokenFor of a folder whose agent may run meanwhile. It changes nothing.
func TokenIn(stateDir, token string) string {
	s := &Folder{dir: stateDir}
	b, err := os.ReadFile(filepath.Join(stateDir, tokenFile))
	if content, ok := unsealed(b); err == nil && ok {
		json.Unmarshal(content, &s.token) // else there is none
	}
	return s.TokenFor(token)
}

// KeepToken keeps a token that the store gave in the place of another one.
func (s *Folder) KeepToken(of, token string) error {
	t := ownToken{hashOf(of), token}
	if err := s.Save(tokenFile, t); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.token = t
	return nil
}

// ForgetToken lets go of a token that the store gave, and tells whether there was one.
func (s *Folder) ForgetToken() bool {
	s.mu.Lock()
	had := s.token.Token != ""
	s.mu.Unlock()
	return had && s.KeepToken("", "") == nil
}

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

func writeID(path, id string) error {
	return errors.Join(disk.WriteFile(disk.OS, path, []byte(id+"\n"), 0o640), disk.WriteFile(disk.OS, path+twinSuffix, sealed([]byte(id+"\n")), 0o640))
}
