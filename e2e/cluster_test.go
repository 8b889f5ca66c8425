package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/demo/mariadb"
)

// newClusterStore starts a service whose database is a cluster of three nodes.
func newClusterStore(t *testing.T) (*store, *mariadb.Cluster) {
	t.Helper()
	need(t, "mariadbd")
	cluster, err := mariadb.StartCluster(t.Context(), 3)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cluster.Close)
	dir := shortDir(t)
	s := &store{t: t, dir: dir, log: new(logBuffer), database: filepath.Join(dir, "database"), address: freeAddress(t)}
	t.Cleanup(func() {
		s.kill()
		if t.Failed() {
			t.Logf("the service's log:\n%s", s.log)
		}
	})
	os.WriteFile(s.database, []byte(cluster.DSNs()+"\n"), 0o600)
	s.start()
	return s, cluster
}

// While an agent sends, the node that is written to dies, and comes back; the next one
// stops for a while. Nothing is lost or there twice, and nobody waits for long.
func TestNodesOfAClusterDieAndStop(t *testing.T) {
	t.Parallel()
	s, cluster := newClusterStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	sent := 0
	send := func(n int) {
		h.sendNumbers(sent+1, sent+n)
		sent += n
	}
	writer := func() *mariadb.Server {
		t.Helper()
		for lines := strings.Split(strings.TrimSpace(s.log.String()), "\n"); len(lines) > 0; lines = lines[:len(lines)-1] {
			line := lines[len(lines)-1]
			for _, node := range cluster.Nodes {
				address := node.DSN[strings.Index(node.DSN, "(")+1 : strings.Index(node.DSN, ")")]
				if strings.Contains(line, "of the cluster is written to") && strings.Contains(line, "="+address) && strings.HasSuffix(line, address) {
					return node
				}
			}
		}
		t.Fatal("the service does not tell which node it writes to")
		return nil
	}
	send(500)
	h.allDelivered()
	for _, c := range []struct {
		what        string
		ends, again func(*mariadb.Server)
	}{
		{"dies", (*mariadb.Server).Kill, func(n *mariadb.Server) {
			if err := n.Restart(t.Context()); err != nil {
				t.Fatal(err)
			}
		}},
		{"stops", (*mariadb.Server).Freeze, (*mariadb.Server).Thaw},
	} {
		node := writer()
		c.ends(node)
		began := time.Now()
		send(500)
		h.allDelivered()
		t.Logf("a node %s: records are in the store after %v", c.what, time.Since(began))
		c.again(node)
		send(500)
		h.allDelivered()
	}
	expect(t, 0, "in order", "", "store", "check", "--database-file", s.database)
	expect(t, 3, "", "shelf first: it is a cluster", "store", "compact", "--database-file", s.database)
	if twice := s.hasEach(1, sent); twice != 0 {
		t.Errorf("%d are there twice", twice)
	}
}
