package plan

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
)

// Metrics says where the agent's figures are served.
type Metrics struct {
	Listen string // HOST:PORT, "" for nowhere
}

func (r *planReader) readMetrics(e entry) (of Metrics) {
	m, ok := r.mapping(e.value, e.at, "metrics", `metrics: {listen: "127.0.0.1:9440"}`, "listen")
	if !ok {
		return of
	}
	e, ok = m.require("listen", `write listen: "127.0.0.1:9440"`)
	if !ok {
		return of
	}
	if of.Listen = r.address(e); of.Listen != "" && !IsLoopback(of.Listen) {
		r.warn(e.valueAt(), fmt.Sprintf("whoever reaches %s can read the figures of this host, with the names of its intakes, rules and outlets", of.Listen), `listen on "127.0.0.1:9440" where the reader is on this machine; else have the firewall let only the reader in`)
	}
	return of
}

// IsLoopback tells whether a HOST:PORT is reached from its own machine alone.
func IsLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.Unmap().IsLoopback() || strings.EqualFold(host, "localhost")
}
