package agent

import (
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"oakbarrel/core/balance"
	"oakbarrel/core/limit"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// intake is a named way in, with its counters. Its endpoints do the reading.
type intake struct {
	settings plan.Intake                 // changed between two batches only
	syslog   atomic.Pointer[plan.Syslog] // of settings, for those who read between

	limiter atomic.Pointer[limit.Keyed[senderKey]] // nil without a limit

	read, passed, unreadable, limited, missed atomic.Int64
	unparsed, cut, turnedAway                 atomic.Int64
	last                                      atomic.Int64 // when a record came last, in nanoseconds since 1970, 0 for never
}

func newIntake(s plan.Intake) *intake {
	in := &intake{}
	in.configure(s)
	return in
}

// configure puts other settings in force. It is called between two batches.
func (in *intake) configure(s plan.Intake) {
	old := in.limiter.Load()
	switch rate := s.Syslog.Limit; {
	case rate == (limit.Rate{}):
		in.limiter.Store(nil)
	case old == nil || old.Rate != rate:
		in.limiter.Store(&limit.Keyed[senderKey]{Rate: rate})
	}
	in.settings = s
	in.syslog.Store(&s.Syslog)
}

// senderKey tells senders apart: by their address, or by the process behind a unix socket.
type senderKey struct {
	addr netip.Addr
	pid  int32
}

// limits tells whether a sender has sent too many, and counts the record then.
func (in *intake) limits(from *record.Peer, now record.Stamp) bool {
	limiter := in.limiter.Load()
	if limiter == nil || limiter.Take(senderKey{from.Addr.Addr(), from.PID}, now.Sec*1e9+int64(now.Nsec)) {
		return false
	}
	in.read.Add(1)
	in.limited.Add(1)
	return true
}

// allows tells whether a network address may speak to the intake.
func allows(s *plan.Syslog, from netip.Addr) bool {
	if len(s.Allow) == 0 {
		return true
	}
	return slices.ContainsFunc(s.Allow, func(n netip.Prefix) bool { return n.Contains(from) })
}

func configureParser(p *wire.Parser, s *plan.Syslog) { p.Zone, p.Default = s.Zone, s.Default }

// count counts the records of a batch that is passed, and lets go of what the
// plan does not keep.
func (in *intake) count(b *record.Batch) {
	var unparsed, cut int64
	for i := range b.Records {
		r := &b.Records[i]
		if r.Unparsed {
			unparsed++
		}
		if r.Cut {
			cut++
		}
		if !in.settings.KeepRaw {
			r.Raw = nil
		}
	}
	n := int64(len(b.Records))
	in.read.Add(n)
	in.passed.Add(n)
	in.unparsed.Add(unparsed)
	in.cut.Add(cut)
	in.last.Store(time.Now().UnixNano())
}

func (in *intake) account() balance.Intake {
	return balance.Intake{Read: in.read.Load(), Passed: in.passed.Load(), Unreadable: in.unreadable.Load(), Limited: in.limited.Load(), Missed: in.missed.Load()}
}

// endpointKey says what an endpoint listens on. Port 0 is another port for
// each intake that asks for it.
type endpointKey struct {
	network string // "unixgram", "unix", "udp", "tcp", "tls", "http", "kernel", "own", "files", "containers" or "pipe"
	address string // as the plan has it: a path or HOST:PORT; of files, all settings
	intake  string // only with port 0, and of files; of a pipe, how its lines are read
}

// String names the endpoint as "send --to" takes it.
func (k endpointKey) String() string {
	if k.isFollowed() {
		return "what it follows"
	}
	return addressText(k.network, k.address)
}

func (k endpointKey) isFollowed() bool { return k.network == "files" || k.network == "containers" }

func addressText(network, address string) string {
	if address == "" {
		return network
	}
	if network == "pipe" {
		return "pipe:" + address
	}
	if network == "unixgram" || network == "unix" {
		return "unix:" + address
	}
	return network + "://" + address
}

// portOf returns the port of HOST:PORT or udp://HOST:PORT.
func portOf(address string) string { return address[strings.LastIndex(address, ":")+1:] }

// keysOf returns the endpoints of an intake.
func keysOf(s plan.Intake) (keys []endpointKey) {
	switch s.Kind {
	case "kernel", "own":
		return []endpointKey{{network: s.Kind}}
	case "files", "containers":
		return []endpointKey{{s.Kind, s.Files.Text, s.Name}}
	}
	if s.Pipes != nil {
		for _, path := range s.Pipes.Paths {
			keys = append(keys, endpointKey{network: "pipe", address: path, intake: s.Pipes.Text})
		}
		return keys
	}
	for _, k := range []endpointKey{
		{network: "unixgram", address: s.Syslog.Socket}, {network: "unix", address: s.Syslog.Stream}, {network: "udp", address: s.Syslog.UDP}, {network: "tcp", address: s.Syslog.TCP}, {network: "tls", address: s.Syslog.TLS}, {network: "http", address: s.HTTP},
	} {
		if k.address == "" {
			continue
		}
		if !strings.HasPrefix(k.network, "unix") && strings.Trim(portOf(k.address), "0") == "" {
			k.intake = s.Name
		}
		keys = append(keys, k)
	}
	return keys
}

// endpoint is one socket that is read from. Its owner may change with the plan.
type endpoint interface {
	// run reads until the endpoint is drained.
	run()
	// drain stops taking, reads what the kernel holds until deadline, and closes. It may be called again.
	drain(deadline time.Time)
	// close closes an endpoint that was not run.
	close()
	// owner returns the intake that the records are of.
	owner() *intake
	setOwner(*intake)
	// bound returns the address that was opened, as "send --to" takes it.
	bound() string
	// lands returns how many records are read and not passed on, and begins anew at 0.
	lands() int64
	// quits returns a channel that is closed when the endpoint is given up, and what
	// it has is not to be taken any more; nil where that never is.
	quits() <-chan struct{}
}

// owned is the part that all endpoints share.
type owned struct {
	in     atomic.Pointer[intake]
	flying atomic.Int64 // records that are read, and not passed on yet
	quit   chan struct{}
}

func (o *owned) lands() int64           { return o.flying.Swap(0) }
func (o *owned) quits() <-chan struct{} { return o.quit }

func (o *owned) owner() *intake      { return o.in.Load() }
func (o *owned) setOwner(in *intake) { o.in.Store(in) }

// open opens an endpoint, which does not read yet.
func (a *Agent) open(key endpointKey, in *plan.Intake) (endpoint, error) {
	switch key.network {
	case "unixgram":
		if key.address == plan.AutoSocket {
			return a.openAutoSocket()
		}
		return a.openUnixgram(key.address)
	case "udp":
		return a.openUDP(key.address)
	case "tcp":
		return a.openTCP(key.address)
	case "tls":
		return a.openTLS(key.address, &in.Syslog)
	case "http":
		return a.openOTLP(key.address)
	case "kernel":
		return a.openKernel()
	case "own":
		return a.openOwn(), nil
	case "files", "containers":
		return a.openFollow(in)
	case "pipe":
		return a.openPipe(key.address, in)
	}
	return a.openUnixStream(key.address)
}
