package nodes

import (
	"context"
	"crypto/rand"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"net"
	"strconv"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
)

// node is one server of a cluster.
type node struct {
	address string
	network string // its name in the driver, which dials by it
	opens   driver.Connector
	asks    *sql.DB // a connection of its own
	alone   bool

	mu   sync.Mutex
	is   state
	open map[net.Conn]bool // what is written by
}

// askTime is for how long an answer of a node is waited for.
const askTime = time.Second

func newNode(c *mysql.Config) (*node, error) {
	name := make([]byte, 8)
	rand.Read(name)
	of := &node{address: c.Addr, network: "node-" + hex.EncodeToString(name), open: map[net.Conn]bool{}}
	asks := c.Clone()
	asks.DBName = ""
	asks.Timeout, asks.ReadTimeout, asks.WriteTimeout = askTime, askTime, askTime
	asked, err := mysql.NewConnector(asks)
	if err != nil {
		return nil, err
	}
	of.asks = sql.OpenDB(asked)
	of.asks.SetMaxOpenConns(1)

	writes := c.Clone()
	network := writes.Net
	writes.Net = of.network
	if writes.Params == nil {
		writes.Params = map[string]string{}
	}
	writes.Params["wsrep_sync_wait"] = "1" // what another node has committed is there
	mysql.RegisterDialContext(of.network, func(ctx context.Context, address string) (net.Conn, error) {
		dialer := net.Dialer{Timeout: min(c.Timeout, patience)}
		opened, err := dialer.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return of.keep(opened), nil
	})
	of.opens, err = mysql.NewConnector(writes)
	return of, err
}

func (of *node) close() {
	of.asks.Close()
	mysql.DeregisterDialContext(of.network)
}

// kept is a connection that is cut where its node does not answer.
type kept struct {
	net.Conn
	of *node
}

func (k *kept) Close() error {
	k.of.mu.Lock()
	delete(k.of.open, k.Conn)
	k.of.mu.Unlock()
	return k.Conn.Close()
}

func (of *node) keep(c net.Conn) net.Conn {
	of.mu.Lock()
	defer of.mu.Unlock()
	of.open[c] = true
	return &kept{c, of}
}

// cut ends all connections by which is written. It is called with the lock.
func (of *node) cut() {
	for c := range of.open {
		c.Close()
	}
	clear(of.open)
}

func (of *node) connect(ctx context.Context) (mysqlConn, error) {
	c, err := of.opens.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return c.(mysqlConn), nil
}

func (of *node) state() state {
	of.mu.Lock()
	defer of.mu.Unlock()
	return of.is
}

func (of *node) wasAsked() bool { return of.state().asked }

// ask asks the node how it is. One that refuses is away at once; one that does not answer,
// after a while, as it may have much to do.
func (of *node) ask(ctx context.Context) {
	now, err := of.says(ctx)
	of.mu.Lock()
	defer of.mu.Unlock()
	if err == nil {
		now.asked, now.heard, now.alone = true, time.Now(), of.alone
		of.is = now
		return
	}
	if isLate(err) && of.is.answers() && time.Since(of.is.heard) < patience {
		return
	}
	of.is = state{asked: true, heard: of.is.heard, err: err}
	of.cut() // what waits for it would wait long, also where another one is written to by now
}

// isLate tells whether an error is one of waiting in vain. The driver hides what it was
// where a connection that was open breaks off.
func isLate(err error) bool {
	var network net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.As(err, &network) && network.Timeout()
}

// says returns what the node says of itself.
func (of *node) says(ctx context.Context) (s state, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	rows, err := of.asks.QueryContext(ctx, "SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_ready', 'wsrep_cluster_status', 'wsrep_local_state', 'wsrep_local_index', 'wsrep_cluster_state_uuid')")
	if err != nil {
		return s, err
	}
	defer rows.Close()
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return s, err
		}
		s.set(name, value)
	}
	if err := rows.Err(); err != nil {
		return s, err
	}
	return s, of.asks.QueryRowContext(ctx, "SELECT @@global.read_only").Scan(&s.readOnly)
}

// set notes a variable of a node's status.
func (s *state) set(name, value string) {
	switch name {
	case "wsrep_ready":
		s.ready = value == "ON"
	case "wsrep_cluster_status":
		s.primary = value == "Primary"
	case "wsrep_local_state":
		s.step, _ = strconv.Atoi(value)
	case "wsrep_local_index":
		s.index, _ = strconv.Atoi(value)
	case "wsrep_cluster_state_uuid":
		s.cluster = value
	}
}
