package intake

import (
	"net"
	"strings"

	"oakbarrel/unit"
)

// keptDropsFile is where a state folder notes how many datagrams the kernel had dropped of
// sockets that outlive the agent, so that none is told twice.
const keptDropsFile = "kept.json"

// keptDatagrams returns the socket for datagrams that was kept open, nil where there is none.
func (a *Agent) keptDatagrams(network unit.Network, address string) (conn net.PacketConn, path string) {
	file, path := a.Unit.Take(network, address)
	if file == nil {
		return nil, ""
	}
	defer file.Close()
	conn, err := net.FilePacketConn(file)
	if err != nil {
		return nil, ""
	}
	return conn, path
}

// letGo closes what was kept for an endpoint, unless the next run of the agent is to have
// it; it tells whether it is gone.
func (a *Agent) letGo(text string) (gone bool) {
	network, address, _ := strings.Cut(text, "://")
	switch Network(network) {
	case UDP:
		return a.Unit.LetGo(unit.UDP, address)
	case TCP, TLS, HTTP, HTTPS, GRPC, GRPCS:
		return a.Unit.LetGo(unit.TCP, address)
	}
	path := strings.TrimPrefix(text, "unix:")
	datagrams, streams := a.Unit.LetGo(unit.Unixgram, path), a.Unit.LetGo(unit.Unix, path)
	return datagrams && streams
}

// keepDrops notes how many datagrams the kernel has dropped of a socket that stays.
func (a *Agent) keepDrops(text string, drops uint32) {
	a.keptMu.Lock()
	defer a.keptMu.Unlock()
	all := a.keptDrops()
	all[text] = drops
	if err := a.State.Save(keptDropsFile, all); err != nil {
		a.Log.Warn("it cannot be noted what the kernel has dropped; it is told again", "address", text, "why", err)
	}
}

func (a *Agent) keptDrops() map[string]uint32 {
	all := map[string]uint32{}
	a.State.Load(keptDropsFile, &all) // there may be none
	return all
}
