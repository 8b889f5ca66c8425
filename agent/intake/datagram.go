package intake

import (
	"time"

	"oakbarrel/core/decode"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/core/wire"
)

// datagrams makes records of datagrams, and passes them on.
type datagrams struct {
	Common
	agent *Agent
	local bool // they come by a unix socket

	parser  wire.Parser
	decoder *decode.Decoder // nil until it is needed
	batch   record.Batch
	routing route.Routing
	hosts   []byte // the addresses that stand in for claimed hosts

	// Of the datagrams that are under way.
	in       *Intake
	settings *plan.Syslog
	now      record.Stamp
}

// begin begins with datagrams that were received together, so many.
func (d *datagrams) begin(received int) {
	d.now = record.StampOf(time.Now())
	d.in = d.Owner()
	d.settings = d.in.syslog.Load()
	configureParser(&d.parser, d.settings, d.local)
	d.batch.Reset()
	d.hosts = d.hosts[:0]
	emptyDecoder(d.decoder)
	d.flying.Store(int64(received))
}

// take makes a record of a datagram, which may have been cut. It, and who sent it, stay as they
// are until all are passed on.
func (d *datagrams) take(message []byte, cut bool, from *record.Peer) {
	if addr := from.Addr; addr.IsValid() && !allows(d.settings, addr.Addr()) {
		d.in.turnedAway.Add(1)
		return
	}
	message = wire.TrimDatagram(message)
	if len(message) == 0 {
		return // a probe
	}
	if d.in.limits(from, d.now) {
		return
	}
	r := d.batch.Next()
	r.Received = d.now
	r.Raw = message[:min(len(message), d.settings.Largest)]
	d.parser.Parse(r, r.Raw)
	r.Cut = cut || len(message) > d.settings.Largest
	d.decoder = decodeBody(d.decoder, d.settings, r)
	if *from != (record.Peer{}) {
		r.Peer = from
		d.hosts = peerHost(d.settings.PeerHost, r, d.hosts)
	}
}

// passOn passes on the records that were made.
func (d *datagrams) passOn(e Endpoint) {
	if len(d.batch.Records) > 0 {
		d.agent.pass(&d.batch, &d.routing, e, false)
	}
	d.flying.Store(0)
}

// peerHost makes the address of the sender the host of a record that names none, or
// always. It uses the end of a buffer, which it returns.
func peerHost(always bool, r *record.Record, buffer []byte) []byte {
	if !r.Peer.Addr.IsValid() || r.Host != nil && !always {
		return buffer
	}
	start := len(buffer)
	buffer = r.Peer.Addr.Addr().AppendTo(buffer)
	r.Host = buffer[start:len(buffer):len(buffer)]
	return buffer
}
