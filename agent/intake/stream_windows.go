package intake

import (
	"io/fs"
	"net"
	"syscall"

	"oakbarrel/core/record"
)

// rawOf returns nothing: the system fills a buffer that is lent to it beforehand, so that
// nothing is won by lending it late.
func rawOf(net.Conn) (syscall.RawConn, error) { return nil, nil }

// processAt tells of no process.
func processAt(net.Conn) (p record.Peer) { return p }

// removeOwn has nothing to remove.
func removeOwn(string, fs.FileInfo) {}

// run is not reached: no connection is read in that way.
func (c *streamConn) run() { c.runPlain() }
