// Package unit speaks with the system's service manager, where that has started this
// process: it tells when it is ready and how it is, that it lives, and hands over sockets
// that are to stay open while it is started again (sd_notify(3), sd_listen_fds(3)).
//
// A [Manager] is nil, and its methods do nothing, where nobody wants to be told. They may
// be called by several goroutines at a time.
package unit

// Network is what kind of socket is handed over.
type Network string

// The networks.
const (
	UDP      Network = "udp"
	TCP      Network = "tcp" // that listens
	Unixgram Network = "unixgram"
	Unix     Network = "unix" // that listens

	Connection Network = "connection" // of another process; its address is a name
)
