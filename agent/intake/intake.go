// Package intake is each way by which records come into an agent: sockets for
// datagrams and streams, TLS, OTLP over HTTP, the kernel, followed files and
// containers, named pipes, and the agent's own log.
//
// An [Intake] is what the plan names: settings and counters. What it reads from
// are its endpoints, one for each address, each with a goroutine of its own that
// [Endpoint.Run] is. An endpoint makes batches of records and gives them to the
// agent by [Agent.Pass]; the slices of a batch are the endpoint's buffer, and its
// own again when Pass returns. When the plan changes an endpoint may go on under
// another intake.
//
// The agent opens endpoints with [Agent.Open] and closes them with
// [Endpoint.Drain]. To see how one is written begin with kernel.go, the smallest.
package intake

import (
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/decode"
	"oakbarrel/core/limit"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// Intake is a named way in, with its counters. Its endpoints do the reading. Its
// counters may be used by several goroutines at a time.
type Intake struct {
	name     string
	settings plan.Intake                 // changed between two batches only
	syslog   atomic.Pointer[plan.Syslog] // of settings, for those who read between

	limiter atomic.Pointer[limit.Keyed[senderKey]] // nil without a limit

	read, passed, unreadable, limited, missed atomic.Int64
	unparsed, cut, turnedAway                 atomic.Int64
	last                                      atomic.Int64 // when a record came last, in nanoseconds since 1970, 0 for never
}

// New returns an intake with settings.
func New(s plan.Intake) *Intake {
	in := &Intake{name: s.Name}
	in.Configure(s)
	return in
}

// Configure puts other settings in force. It is called between two batches.
func (in *Intake) Configure(s plan.Intake) {
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
func (in *Intake) limits(from *record.Peer, now record.Stamp) bool {
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

func configureParser(p *wire.Parser, s *plan.Syslog, local bool) {
	p.Zone, p.Default, p.Local = s.Reading.Zone, s.Default, local
}

// decodeBody has the text of a record read as the plan says. What it puts together stands in
// the memory of d, until the batch is passed on. It returns d, which it makes where it is
// nil and needed: most have nothing to decode, and are many.
func decodeBody(d *decode.Decoder, s *plan.Syslog, r *record.Record) *decode.Decoder {
	if len(s.Decode) == 0 {
		return d
	}
	if d == nil {
		d = new(decode.Decoder)
	}
	d.Reading = &s.Reading
	d.Decode(r, s.Decode)
	return d
}

// emptyDecoder empties the memory of a decoder, whose records are done with.
func emptyDecoder(d *decode.Decoder) {
	if d != nil {
		d.Memory = d.Memory[:0]
	}
}

// Count counts the records of a batch that is passed, and lets go of what the
// plan does not keep.
func (in *Intake) Count(b *record.Batch) {
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

// Account returns the counters of the balance.
func (in *Intake) Account() balance.Intake {
	return balance.Intake{Read: in.read.Load(), Passed: in.passed.Load(), Unreadable: in.unreadable.Load(), Limited: in.limited.Load(), Missed: in.missed.Load()}
}

// Settings returns the settings in force, for who holds up the batches or the
// changes of plans.
func (in *Intake) Settings() plan.Intake { return in.settings }

// Name returns the name of the intake, which stays.
func (in *Intake) Name() string { return in.name }

// Lose counts records that were read and could not be passed on.
func (in *Intake) Lose(records int64) {
	in.read.Add(records)
	in.unreadable.Add(records)
}

// Status tells how the intake is, without its addresses. Endpoints that it has add
// theirs by [Endpoint.Tell].
func (in *Intake) Status() client.IntakeStatus {
	s := client.IntakeStatus{
		Name: in.name, Kind: in.settings.Kind, Addresses: []string{}, Intake: in.Account(),
		Unparsed: in.unparsed.Load(), Cut: in.cut.Load(), TurnedAway: in.turnedAway.Load(),
	}
	if last := in.last.Load(); last > 0 {
		at := time.Unix(0, last)
		s.LastRecord = &at
	}
	return s
}
