package mariadb

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
)

// provider is Debian's library that makes servers a cluster.
const provider = "/usr/lib/galera/libgalera_smm.so"

// Cluster is a cluster of servers on loopback.
type Cluster struct {
	Nodes []*Server
	dir   string
}

// StartCluster starts a cluster of n nodes, in a folder of its own in the one for what is
// temporary: as root they run as Debian's user for the database, who may not enter every
// folder, and who alone can send the data of one to another.
func StartCluster(ctx context.Context, n int) (c *Cluster, err error) {
	_, noProvider := os.Stat(provider)
	_, noSender := exec.LookPath("rsync")
	if err := errors.Join(noProvider, noSender); err != nil {
		return nil, fmt.Errorf("what makes servers a cluster is not installed; on Debian: apt-get install mariadb-server galera-4 rsync iproute2 (%w)", err)
	}
	c = new(Cluster)
	if c.dir, err = os.MkdirTemp("", "obc"); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			c.Close()
		}
	}()
	if err = os.Chmod(c.dir, 0o711); err != nil {
		return nil, err
	}
	var members []string
	for i := range n {
		s := &Server{dir: filepath.Join(c.dir, strconv.Itoa(i+1)), user: "mysql"}
		var talks, takes, gives int
		for _, port := range []*int{&s.port, &talks, &takes, &gives} {
			if *port, err = freePort(); err != nil {
				return nil, err
			}
		}
		members = append(members, fmt.Sprintf("127.0.0.1:%d", talks))
		s.options = []string{"--wsrep-on=ON", "--wsrep-provider=" + provider, "--binlog-format=ROW", "--innodb-autoinc-lock-mode=2", "--wsrep-sst-method=rsync",
			"--wsrep-node-address=127.0.0.1", fmt.Sprintf("--wsrep-sst-receive-address=127.0.0.1:%d", takes),
			fmt.Sprintf("--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:%d;ist.recv_addr=127.0.0.1:%d;gcache.size=256M", talks, gives)}
		c.Nodes = append(c.Nodes, s)
		if err = s.own(); err != nil {
			return nil, err
		}
	}
	for i, s := range c.Nodes {
		s.options = append(s.options, "--wsrep-cluster-address=gcomm://"+strings.Join(members, ","))
		if i == 0 {
			if err = s.setUp(ctx); err == nil {
				err = s.start(ctx, "--wsrep-new-cluster")
			}
		} else {
			err = s.start(ctx)
		}
		if err != nil {
			return nil, fmt.Errorf("node %d: %w", i+1, err)
		}
	}
	return c, nil
}

// own makes the folders of a node, which are its user's.
func (s *Server) own() error {
	data := filepath.Join(s.dir, "data")
	if err := os.MkdirAll(data, 0o700); err != nil || os.Getuid() != 0 {
		return err
	}
	who, err := user.Lookup(s.user)
	if err != nil {
		return err
	}
	uid, _ := strconv.Atoi(who.Uid)
	gid, _ := strconv.Atoi(who.Gid)
	return errors.Join(os.Chown(s.dir, uid, gid), os.Chown(data, uid, gid))
}

// DSNs returns what a file for the service holds: those of all nodes, a line each.
func (c *Cluster) DSNs() string {
	var lines []string
	for _, s := range c.Nodes {
		lines = append(lines, s.DSN)
	}
	return strings.Join(lines, "\n")
}

// Close kills the nodes and removes their data.
func (c *Cluster) Close() {
	for _, s := range c.Nodes {
		s.Thaw()
		s.Kill()
	}
	os.RemoveAll(c.dir)
}
