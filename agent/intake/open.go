package intake

import (
	"net"
	"strconv"
	"strings"

	"oakbarrel/core/plan"
)

// Network is what kind of thing an endpoint reads from.
type Network string

// The networks. Their names stand in addresses.
const (
	Unixgram   Network = "unixgram" // datagrams of a unix socket
	Unix       Network = "unix"     // streams of a unix socket
	UDP        Network = "udp"
	TCP        Network = "tcp"
	TLS        Network = "tls"
	HTTP       Network = "http" // OTLP, like the next three
	HTTPS      Network = "https"
	GRPC       Network = "grpc"
	GRPCS      Network = "grpcs" // with TLS
	Kernel     Network = "kernel"
	Journal    Network = "journal"
	Events     Network = "events" // of Windows
	Own        Network = "own"    // the agent's own log
	Files      Network = "files"
	Containers Network = "containers"
	Pipe       Network = "pipe"
)

// Key says what an endpoint listens on. Port 0 is another port for
// each intake that asks for it.
type Key struct {
	Network Network
	Address string // as the plan has it: a path or HOST:PORT; of files, all settings
	intake  string // only with port 0, and of files; of a pipe, how its lines are read
}

// String names the endpoint as "send --to" takes it.
func (k Key) String() string {
	if k.IsFollowed() {
		return "what it follows"
	}
	if k.Network == Journal {
		return "the journal"
	}
	if k.Network == Events {
		return "the log of events"
	}
	return addressText(k.Network, k.Address)
}

// IsFollowed tells whether the endpoint follows files.
func (k Key) IsFollowed() bool { return k.Network == Files || k.Network == Containers }

func addressText(network Network, address string) string {
	if address == "" {
		return string(network)
	}
	if network == Pipe {
		return "pipe:" + address
	}
	if network == Unixgram || network == Unix {
		return "unix:" + address
	}
	return string(network) + "://" + address
}

// portOf returns the port of HOST:PORT or udp://HOST:PORT.
func portOf(address string) string { return address[strings.LastIndex(address, ":")+1:] }

// KeysOf returns the keys of the endpoints of an intake. A kind that has no
// settings of where it listens has one endpoint.
func KeysOf(s plan.Intake) []Key {
	switch s.Kind {
	case plan.SyslogIntake, plan.OTLPIntake:
		return addressesOf(s)
	case plan.FilesIntake, plan.ContainersIntake:
		return []Key{{Network(s.Kind), s.Files.Text, s.Name}}
	case plan.JournalIntake:
		return []Key{{Journal, s.Journal.Text, s.Name}}
	case plan.EventsIntake:
		return []Key{{Events, s.Events.Text, s.Name}}
	case plan.PipesIntake:
		return pipesOf(s)
	}
	return []Key{{Network: Network(s.Kind)}}
}

func pipesOf(s plan.Intake) (keys []Key) {
	for _, path := range s.Pipes.Paths {
		keys = append(keys, Key{Network: Pipe, Address: path, intake: s.Pipes.Text})
	}
	return keys
}

func addressesOf(s plan.Intake) (keys []Key) {
	web, calls := HTTP, GRPC
	if s.Syslog.Certificate != "" {
		web, calls = HTTPS, GRPCS
	}
	for _, k := range []Key{
		{Network: Unixgram, Address: s.Syslog.Socket}, {Network: Unix, Address: s.Syslog.Stream}, {Network: UDP, Address: s.Syslog.UDP}, {Network: TCP, Address: s.Syslog.TCP}, {Network: TLS, Address: s.Syslog.TLS}, {Network: web, Address: s.HTTP}, {Network: calls, Address: s.GRPC},
	} {
		if k.Address == "" {
			continue
		}
		if k.Network != Unixgram && k.Network != Unix && strings.Trim(portOf(k.Address), "0") == "" {
			k.intake = s.Name
		}
		keys = append(keys, k)
	}
	return keys
}

// transport returns what a port belongs to.
func (k Key) transport() Network {
	switch k.Network {
	case TLS, HTTP, HTTPS, GRPC, GRPCS:
		return TCP
	}
	return k.Network
}

// Port returns the port that is listened on, 0 for none.
func (k Key) Port() int {
	switch k.transport() {
	case UDP, TCP:
		port, _ := strconv.Atoi(portOf(k.Address)) // the plan was checked
		return port
	}
	return 0
}

// rereads names what is read from where the outlets are, of which an intake has one at a
// time; "" where nothing is.
func (k Key) rereads() Network {
	switch {
	case k.IsFollowed():
		return Files
	case k.Network == Journal, k.Network == Events:
		return k.Network
	}
	return ""
}

// IsInTheWay tells whether an endpoint that is open under k keeps one from being
// opened under next: it has the port of that one, or follows files for its intake.
func (k Key) IsInTheWay(open Endpoint, next Key) bool {
	if of := next.rereads(); of != "" {
		return k.rereads() == of && k.intake == next.intake
	}
	return k.transport() == next.transport() && portOf(open.Bound()) == portOf(next.Address)
}

// TryPort tells why a port cannot be opened, nil where it can, or the key is of no port.
// It takes nothing in.
func (k Key) TryPort() error {
	switch k.transport() {
	case UDP:
		probe, err := net.ListenPacket("udp", k.Address)
		if err == nil {
			probe.Close()
		}
		return err
	case TCP:
		return TryTCP(k.Address)
	}
	return nil
}

// TryTCP tells whether a TCP address can be listened on.
func TryTCP(address string) error {
	probe, err := net.Listen("tcp", address)
	if err == nil {
		probe.Close()
	}
	return err
}

// Usable tells whether an endpoint that is open can go on with other settings.
func (k Key) Usable(s *plan.Syslog) error {
	if k.Network != TLS && k.Network != HTTPS && k.Network != GRPCS {
		return nil
	}
	_, err := newTLSSettings(s)
	return err
}

// Open opens an endpoint, which does not read yet. One endpoint is opened at a time.
func (a *Agent) Open(key Key, in *plan.Intake) (Endpoint, error) {
	switch key.Network {
	case UDP:
		return a.openUDP(key.Address)
	case TCP:
		return a.openTCP(key.Address)
	case TLS:
		return a.openTLS(key.Address, &in.Syslog)
	case HTTP, HTTPS, GRPC, GRPCS:
		return a.openOTLP(key, &in.Syslog)
	case Own:
		return a.openOwn(), nil
	case Files, Containers:
		return a.openFollow(in)
	}
	return a.openHere(key, in)
}
