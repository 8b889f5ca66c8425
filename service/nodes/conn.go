package nodes

import (
	"context"
	"database/sql/driver"
)

// mysqlConn is what a connection of the driver can do.
type mysqlConn interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.NamedValueChecker
	driver.Pinger
	driver.SessionResetter
	driver.Validator
}

// conn is a connection that is given up once another node is written to.
type conn struct {
	mysqlConn
	to *node
	of *Nodes
}

// IsValid tells whether the connection may be used again.
func (c *conn) IsValid() bool {
	writer, _ := c.of.now()
	return writer == c.to && c.mysqlConn.IsValid()
}

// ResetSession is asked before the connection is used again.
func (c *conn) ResetSession(ctx context.Context) error {
	if writer, _ := c.of.now(); writer != c.to {
		return driver.ErrBadConn
	}
	return c.mysqlConn.ResetSession(ctx)
}
