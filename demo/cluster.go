package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"oakbarrel/demo/mariadb"
)

// The store may outlive its machines: a cluster of three nodes, two more shelves, and two
// services before them. What of these is killed comes back after a while.

// shelvesOf are the shelves beside the first, by the cask whose feeds live there.
var shelvesOf = map[string]string{"gateway": "north", "reef": "south"}

// backTime is how long something that was killed stays away.
const backTime = 30 * time.Second

// part is a process of the store that may be killed.
type part struct {
	name  string
	pid   func() int
	ended func() <-chan struct{}
	start func(ctx context.Context) error
}

// removeOld removes what a demo with a cluster has left in its folder: the cluster is new each time.
func removeOld(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) == 0 {
		return nil
	}
	if _, err := os.Stat(filepath.Join(dir, "store", secondAddress)); err != nil {
		return fmt.Errorf("%s holds something that is not of a demo with a cluster; name another folder", dir)
	}
	return os.RemoveAll(dir)
}

// secondAddress is the file that keeps the address of the second service.
const secondAddress = "address-2"

// startCluster starts the cluster and makes the file that names its nodes.
func (s *store) startCluster(ctx context.Context, database string) (err error) {
	if s.cluster, err = mariadb.StartCluster(ctx, 3); err != nil {
		return err
	}
	for i, node := range s.cluster.Nodes {
		s.parts = append(s.parts, serverPart(fmt.Sprintf("node %d of the cluster", i+1), node))
	}
	return os.WriteFile(database, []byte(s.cluster.DSNs()+"\n"), 0o600)
}

func serverPart(name string, server *mariadb.Server) *part {
	return &part{name, server.PID, server.Ended, server.Restart}
}

// addShelves starts two databases, and has the casks of the two hosts live there.
func (s *store) addShelves(ctx context.Context, binary, database string) error {
	for cask, name := range shelvesOf {
		db, err := mariadb.Start(ctx, filepath.Join(s.dir, "shelf-"+name))
		if err != nil {
			return err
		}
		s.shelves = append(s.shelves, db)
		s.parts = append(s.parts, serverPart("shelf "+name+", which has the cask "+cask, db))
		file := filepath.Join(s.dir, "shelf-"+name+".dsn")
		if err := os.WriteFile(file, []byte(db.DSN+"\n"), 0o600); err != nil {
			return err
		}
		if out, err := exec.Command(binary, "shelf", "add", name, "--shelf-file", file, "--size", "100GiB", "--database-file", database).CombinedOutput(); err != nil {
			return fmt.Errorf("add shelf %s: %w: %s", name, err, out)
		}
	}
	return nil
}

// placeCasks has the feeds of the two hosts live on the shelves, once the services know them.
func (s *store) placeCasks(binary string) (err error) {
	for began := time.Now(); time.Since(began) < 10*time.Second; time.Sleep(200 * time.Millisecond) {
		err = nil
		for cask, name := range shelvesOf {
			_, failed := s.command(binary, "cask", "set", cask, "--shelf", name)
			err = errors.Join(err, failed)
		}
		if err == nil {
			return nil
		}
	}
	return err
}

// startSecond starts another service before the same database.
func (s *store) startSecond(binary, database string) error {
	address, err := s.addressIn(secondAddress)
	if err != nil {
		return err
	}
	for i, at := range []string{strings.TrimPrefix(s.url, "http://"), address} {
		p := &servicePart{binary: binary, args: []string{"serve", "--listen", at, "--database-file", database}, name: fmt.Sprintf("service %d, %s", i+1, at), log: filepath.Join(s.dir, []string{"service.log", "service-2.log"}[i])}
		if i == 0 {
			p.child = s.service
		} else if err := p.start(context.Background()); err != nil {
			return err
		}
		s.services = append(s.services, p)
		s.parts = append(s.parts, &part{p.name, func() int { return p.child.process.Process.Pid }, func() <-chan struct{} { return p.child.gone }, p.start})
	}
	s.secondURL = "http://" + address
	return nil
}

// servicePart is a service that may be started again.
type servicePart struct {
	binary, name, log string
	args              []string
	child             *child
}

func (p *servicePart) start(context.Context) (err error) {
	c, err := startChild(p.name, p.log, p.binary, p.args...)
	if err == nil {
		p.child = c
	}
	return err
}

// bringBack starts what has ended again after a while, until ctx ends.
func (s *store) bringBack(ctx context.Context) {
	for _, p := range s.parts {
		s.watched.Go(func() {
			runtime.LockOSThread() // a process ends with the thread that started it
			for {
				select {
				case <-ctx.Done():
					return
				case <-p.ended():
				}
				select {
				case <-ctx.Done():
					return
				case <-time.After(backTime):
				}
				if err := p.start(ctx); err != nil && ctx.Err() == nil {
					fmt.Fprintf(os.Stderr, "%s cannot be started again: %v\n", p.name, err)
					time.Sleep(backTime)
				}
			}
		})
	}
}

// tellParts says what of the store may be killed.
func (s *store) tellParts(o Options) {
	if len(s.parts) == 0 {
		return
	}
	fmt.Fprintf(o.Out, "\nThe store is a cluster, two shelves more, and two services. Kill one, and look what becomes of it; it comes back after half a minute:\n")
	for _, p := range s.parts {
		fmt.Fprintf(o.Out, "  kill -9 %-8d # %s\n", p.pid(), p.name)
	}
	bin, database := shortest(o.Binary), shortest(filepath.Join(s.dir, "database"))
	fmt.Fprintf(o.Out, "  %s shelf list --database-file %s\n  tail -f %s %s\n", bin, database, shortest(filepath.Join(s.dir, "service.log")), shortest(filepath.Join(s.dir, "service-2.log")))
}
