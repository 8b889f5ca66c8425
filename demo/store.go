package demo

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"oakbarrel/demo/mariadb"
)

// store is the demo's central store: a database and a service before it. Where
// that cannot be, the demo goes on without, and says why.
type store struct {
	dir, url                           string
	readToken, writeToken, importToken string
	db                                 *mariadb.Server
	service                            *child
	cluster                            *mariadb.Cluster // nil for a database alone
	shelves                            []*mariadb.Server
	services                           []*servicePart // of a cluster
	secondURL                          string
	parts                              []*part
	watched                            sync.WaitGroup
	missing                            string // why there is no store
	password                           string // of the account
}

// account is the name with which a person signs in to the demo's console.
const account = "lantern"

func openStore(ctx context.Context, o Options) *store {
	s, err := tryStore(ctx, o)
	if err == nil {
		return s
	}
	s.close()
	return &store{missing: err.Error()}
}

func tryStore(ctx context.Context, o Options) (s *store, err error) {
	s = &store{dir: filepath.Join(o.Dir, "store")}
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		return s, err
	}
	database := filepath.Join(s.dir, "database")
	if o.Cluster {
		err = s.startCluster(ctx, database)
	} else if s.db, err = mariadb.Start(ctx, filepath.Join(s.dir, "mariadb")); err == nil {
		err = os.WriteFile(database, []byte(s.db.DSN+"\n"), 0o600)
	}
	if err != nil {
		return s, err
	}
	address, err := s.address()
	if err != nil {
		return s, err
	}
	s.service, err = startChild("the service", filepath.Join(s.dir, "service.log"), o.Binary, "serve", "--listen", address, "--link", "http://"+address, "--database-file", database)
	if err != nil {
		return s, err
	}
	s.url = "http://" + address
	if o.Cluster {
		if err := errors.Join(s.addShelves(ctx, o.Binary, database), s.startSecond(o.Binary, database)); err != nil {
			return s, err
		}
	}
	for _, host := range hosts { // a token serves one agent
		if _, err := s.token(o.Binary, database, host, casks[host], "write"); err != nil {
			return s, err
		}
	}
	for _, t := range []struct {
		may   string
		token *string
	}{{"read", &s.readToken}, {"write", &s.writeToken}, {"import", &s.importToken}} {
		if *t.token, err = s.token(o.Binary, database, t.may, "*", t.may); err != nil {
			return s, err
		}
	}
	if err := s.addAccount(o.Binary, database); err != nil {
		return s, err
	}
	if o.Cluster {
		if err := s.placeCasks(o.Binary); err != nil {
			return s, err
		}
	}
	return s, s.setRetention(o.Binary)
}

// urls returns the addresses of the services as a plan has them.
func (s *store) urls() string {
	if s.secondURL == "" {
		return s.url
	}
	return fmt.Sprintf("[%q, %q]", s.url, s.secondURL)
}

// setRetention has the casks keep what an administrator would have them keep.
func (s *store) setRetention(binary string) error {
	for cask, keep := range map[string][]string{"reef": {"--keep-days", "30", "--keep-total", "2GiB"}, "gateway": {"--keep-days", "90"}} {
		if _, err := s.command(binary, append([]string{"cask", "set", cask}, keep...)...); err != nil {
			return err
		}
	}
	return nil
}

func (s *store) passwordFile() string { return filepath.Join(s.dir, "password") }

// addAccount makes the account at the first start; its password is kept in a file.
func (s *store) addAccount(binary, database string) error {
	file := s.passwordFile()
	if b, err := os.ReadFile(file); err == nil {
		s.password = strings.TrimSpace(string(b))
		return nil
	}
	s.password = strings.ToLower(rand.Text()[:12])
	if err := os.WriteFile(file, []byte(s.password+"\n"), 0o600); err != nil {
		return err
	}
	if out, err := exec.Command(binary, "account", "add", account, "--role", "admin", "--password-file", file, "--database-file", database).CombinedOutput(); err != nil {
		return fmt.Errorf("make the account: %w: %s", err, out)
	}
	return nil
}

// tokenFile is where a token is kept: of a host, or what it may do.
func (s *store) tokenFile(name string) string { return filepath.Join(s.dir, name+"-token") }

// address returns where the service listens: the same at every start, because
// the plans of the hosts name it.
func (s *store) address() (string, error) { return s.addressIn("address") }

func (s *store) addressIn(name string) (string, error) {
	file := filepath.Join(s.dir, name)
	if b, err := os.ReadFile(file); err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), os.WriteFile(file, []byte(l.Addr().String()+"\n"), 0o644)
}

// token returns a token that is kept in a file.
func (s *store) token(binary, database, name, cask, may string) (string, error) {
	file := s.tokenFile(name)
	if b, err := os.ReadFile(file); err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	token, err := s.newToken(binary, database, cask, may, name)
	if err != nil {
		return "", err
	}
	return token, os.WriteFile(file, []byte(token+"\n"), 0o600)
}

func (s *store) newToken(binary, database, cask, may, label string) (string, error) {
	out, err := exec.Command(binary, "token", "new", "--cask", cask, "--may", may, "--label", label, "--database-file", database).Output()
	if err != nil {
		return "", fmt.Errorf("make a token: %w", err)
	}
	return strings.TrimSpace(string(out)), nil
}

// ended tells when the service has ended by itself; without a store never.
func (s *store) ended() <-chan error {
	if s.service == nil || s.cluster != nil {
		return nil
	}
	return s.service.ended
}

func (s *store) close() {
	s.watched.Wait()
	for _, p := range s.services {
		p.child.stop()
	}
	if s.service != nil {
		s.service.stop()
	}
	for _, db := range s.shelves {
		db.Stop()
	}
	if s.db != nil {
		s.db.Stop()
	}
	if s.cluster != nil {
		s.cluster.Close()
	}
}
