// Package nodes finds, among the nodes of a MariaDB cluster, the one to write to: the same
// for all services, by what the cluster says of itself, and another one soon after it dies
// or stops to answer.
//
// [Nodes] is a [driver.Connector], so that a database of the standard library may be opened
// with it. It looks at the nodes from the first connection on, until it is closed.
package nodes

import (
	"cmp"
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
)

const (
	pause    = 500 * time.Millisecond // between two looks at a node
	patience = 3 * time.Second        // for which a node may not answer
	settling = 5 * time.Second        // for which another node must come first before a good one is left
	waitTime = 4 * time.Second        // for which a connection waits for a node to write to
)

// Nodes are the nodes of one cluster. It may be used by several goroutines at a time.
type Nodes struct {
	all     []*node
	notes   *slog.Logger
	looking sync.Once
	stop    context.CancelFunc
	stopped context.Context

	mu      sync.Mutex
	writer  *node         // nil for none
	cluster string        // that is written to, "" before it is known
	changed chan struct{} // closed when the writer changes
	begun   time.Time     // when the nodes were looked at first
	better  *node         // that comes before the writer, nil for none
	since   time.Time     // it does
}

// New returns the nodes of a cluster by the configurations of their connections. A single
// one may be any server: it is written to as long as it answers.
func New(configs []*mysql.Config, log *slog.Logger) (*Nodes, error) {
	n := &Nodes{notes: log, changed: make(chan struct{})}
	n.stopped, n.stop = context.WithCancel(context.Background())
	for _, c := range configs {
		of, err := newNode(c)
		if err != nil {
			return nil, err
		}
		of.alone = len(configs) == 1
		n.all = append(n.all, of)
	}
	return n, nil
}

// Close ends the looking. No connection is opened any more.
func (n *Nodes) Close() error {
	n.stop()
	for _, of := range n.all {
		of.close()
	}
	return nil
}

// Connect connects to the node to write to, for which it waits a little where there is none.
func (n *Nodes) Connect(ctx context.Context) (driver.Conn, error) {
	n.looking.Do(n.look)
	ctx, cancel := context.WithTimeout(ctx, waitTime)
	defer cancel()
	for {
		writer, changed := n.now()
		if writer != nil {
			c, err := writer.connect(ctx)
			if err == nil {
				return &conn{c, writer, n}, nil
			}
			if ctx.Err() != nil || n.stopped.Err() != nil {
				return nil, err
			}
		}
		select {
		case <-changed:
		case <-time.After(pause / 5):
		case <-n.stopped.Done():
			return nil, errors.New("the database was closed")
		case <-ctx.Done():
			return nil, n.why()
		}
	}
}

// Driver is there for the standard library.
func (n *Nodes) Driver() driver.Driver { return mysql.MySQLDriver{} }

func (n *Nodes) now() (writer *node, changed chan struct{}) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.writer, n.changed
}

// why says of each node why it is not the one to write to.
func (n *Nodes) why() error {
	var of []string
	for _, node := range n.all {
		of = append(of, node.address+" "+node.state().why())
	}
	if len(n.all) == 1 {
		return errors.New(of[0])
	}
	return fmt.Errorf("no node of the cluster can be written to now: %s", strings.Join(of, "; "))
}

// look begins to look at each node.
func (n *Nodes) look() {
	n.begun = time.Now()
	for _, of := range n.all {
		go func() {
			for n.stopped.Err() == nil {
				of.ask(n.stopped)
				n.choose()
				select {
				case <-n.stopped.Done():
				case <-time.After(pause):
				}
			}
		}()
	}
}

// choose finds the node to write to: of those that are in step, the first in the order
// that the cluster itself has its members in. A node that is well is left for one that came
// back only once the order stands, as it changes in steps.
func (n *Nodes) choose() {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.writer == nil && !n.heardOfAll() {
		return // so that all services begin with the same one
	}
	best, of := n.best()
	if best == n.writer {
		n.better = nil
		return
	}
	if n.writer != nil && n.writer.state().mayWrite() {
		if n.better != best {
			n.better, n.since = best, time.Now()
		}
		if time.Since(n.since) < settling {
			return
		}
	}
	n.change(best, of)
}

// best returns the node that is to be written to, and what it says of itself; nil for none.
func (n *Nodes) best() (best *node, is state) {
	for _, of := range n.all {
		if s := of.state(); s.mayWrite() && n.isOurs(s) && (best == nil || s.before(is)) {
			best, is = of, s
		}
	}
	return best, is
}

// change has another node written to, nil for none.
func (n *Nodes) change(to *node, is state) {
	switch before := n.writer; {
	case len(n.all) == 1: // which others tell of
	case before == nil:
		n.notes.Info("a node of the cluster is written to", "address", to.address)
	default:
		n.notes.Warn("another node of the cluster is written to", "before", before.address, "why", "it "+before.state().why(), "now", addressOf(to))
	}
	if n.writer, n.better = to, nil; to != nil {
		n.cluster = is.cluster
	}
	close(n.changed)
	n.changed = make(chan struct{})
}

// heardOfAll tells whether each node has answered, or has had the time to.
func (n *Nodes) heardOfAll() bool {
	for _, of := range n.all {
		if !of.wasAsked() && time.Since(n.begun) < patience {
			return false
		}
	}
	return true
}

// isOurs tells whether a node is of the cluster that was written to so far. One that was
// made anew, with all its nodes, has another name; a node of another cluster beside ours is
// never written to.
func (n *Nodes) isOurs(s state) bool {
	if s.cluster == n.cluster {
		return true
	}
	for _, of := range n.all {
		if other := of.state(); other.mayWrite() && other.cluster != s.cluster {
			// Two clusters: ours is the one that is known or, at first, that of the first node.
			return n.cluster == "" && n.first() == s.cluster
		}
	}
	return true
}

// first returns the cluster of the first node that may be written to.
func (n *Nodes) first() string {
	for _, of := range n.all {
		if s := of.state(); s.mayWrite() {
			return s.cluster
		}
	}
	return ""
}

func addressOf(of *node) string {
	if of == nil {
		return "none"
	}
	return of.address
}

// state is what a node has said of itself.
type state struct {
	asked    bool
	heard    time.Time // when it answered last
	err      error     // why it does not answer
	ready    bool      // it takes statements
	primary  bool      // it is of the part of the cluster that goes on
	step     int       // 4 is in step, 2 gives its data to another one meanwhile
	index    int       // its place among the members
	cluster  string    // which cluster it is of, "" for none
	readOnly bool
	alone    bool // it is no part of a cluster, or does not matter as one
}

const (
	inStep = 4
	gives  = 2
)

func (s state) answers() bool { return s.asked && s.err == nil }

func (s state) mayWrite() bool {
	return s.answers() && (s.alone || s.ready && s.primary && !s.readOnly && s.cluster != "" && (s.step == inStep || s.step == gives))
}

// before tells whether a node is to be written to rather than another one.
func (s state) before(other state) bool {
	return cmp.Or(-cmp.Compare(s.step, other.step), cmp.Compare(s.index, other.index)) < 0
}

// why says why a node is not written to.
func (s state) why() string {
	switch {
	case !s.asked:
		return "was not heard yet"
	case s.err != nil:
		return fmt.Sprintf("does not answer: %v", s.err)
	case s.cluster == "":
		return "is not of a cluster: a file with several DSNs is for the nodes of one"
	case !s.primary:
		return "is not of the part of the cluster that goes on"
	case !s.ready || s.step != inStep && s.step != gives:
		return "is not in step"
	case s.readOnly:
		return "is read-only"
	}
	return "comes behind others in the cluster's order, or is of another cluster"
}
