package spool

import (
	"encoding/binary"
	"net/netip"

	"oakbarrel/core/record"
)

// A record in a frame: how far its number is above the one before, then its
// properties one after the other.

// Bits of the first byte of a record.
const (
	markStream   = 3
	markUnparsed = 1 << 2
	markCut      = 1 << 3
)

func appendRecord(dst []byte, step uint64, r *record.Record) []byte {
	dst = binary.AppendUvarint(dst, step)
	marks := byte(r.Stream)
	if r.Unparsed {
		marks |= markUnparsed
	}
	if r.Cut {
		marks |= markCut
	}
	dst = append(dst, marks, byte(r.Priority))
	dst = appendStamp(dst, r.Time)
	dst = appendStamp(dst, r.Received)
	for _, v := range [...][]byte{r.Host, r.App, r.ProcID, r.MsgID, r.Text, r.Data, r.Raw} {
		dst = appendText(dst, v)
	}
	dst = binary.AppendUvarint(dst, uint64(len(r.Intake)))
	dst = append(dst, r.Intake...)
	return appendPeer(dst, r.Peer)
}

func appendStamp(dst []byte, s record.Stamp) []byte {
	dst = binary.AppendVarint(dst, s.Sec)
	dst = binary.AppendUvarint(dst, uint64(s.Nsec))
	return binary.AppendVarint(dst, int64(s.Zone)<<2|int64(s.Form))
}

// appendText writes 0 for a missing text, else its length and 1 and its bytes.
func appendText(dst, v []byte) []byte {
	if v == nil {
		return append(dst, 0)
	}
	return append(binary.AppendUvarint(dst, uint64(len(v))+1), v...)
}

func appendPeer(dst []byte, p *record.Peer) []byte {
	switch {
	case p == nil:
		return append(dst, 0)
	case p.Addr.IsValid():
		at := len(dst) + 1
		dst = p.Addr.AppendTo(append(dst, 0))
		dst[at-1] = byte(len(dst) - at + 1) // an address with its port has less than 100 bytes
		return dst
	}
	dst = binary.AppendVarint(append(dst, 255), int64(p.PID))
	dst = binary.AppendUvarint(dst, uint64(p.UID))
	return binary.AppendUvarint(dst, uint64(p.GID))
}

// reader reads the parts of a frame; bad tells that one did not fit.
type reader struct {
	b      []byte
	bad    bool
	intake string // of the last record, which is most often that of the next
}

func (d *reader) uvarint() uint64 {
	if len(d.b) > 0 && d.b[0] < 0x80 { // as most are
		v := d.b[0]
		d.b = d.b[1:]
		return uint64(v)
	}
	v, n := binary.Uvarint(d.b)
	if n <= 0 {
		d.bad, d.b = true, nil
		return 0
	}
	d.b = d.b[n:]
	return v
}

func (d *reader) varint() int64 {
	v := d.uvarint()
	return int64(v>>1) ^ -int64(v&1)
}

func (d *reader) bytes(n uint64) []byte {
	if n > uint64(len(d.b)) {
		d.bad, d.b = true, nil
		return nil
	}
	v := d.b[:n:n]
	d.b = d.b[n:]
	return v
}

func (d *reader) byte() byte {
	if b := d.bytes(1); b != nil {
		return b[0]
	}
	return 0
}

func (d *reader) text() []byte {
	size := d.uvarint()
	if size == 0 {
		return nil
	}
	return d.bytes(size - 1)
}

func (d *reader) stamp() record.Stamp {
	s := record.Stamp{Sec: d.varint(), Nsec: int32(d.uvarint())}
	zone := d.varint()
	s.Zone, s.Form = int16(zone>>2), record.Form(zone&3)
	return s
}

func (d *reader) peer() *record.Peer {
	switch n := d.byte(); n {
	case 0:
		return nil
	case 255:
		return &record.Peer{PID: int32(d.varint()), UID: uint32(d.uvarint()), GID: uint32(d.uvarint())}
	default:
		addr, err := netip.ParseAddrPort(string(d.bytes(uint64(n - 1))))
		d.bad = d.bad || err != nil
		return &record.Peer{Addr: addr}
	}
}

// record fills r with the next record and returns how far its number is above the one before.
func (d *reader) record(r *record.Record) (step uint64, err error) {
	r.Reset()
	step = d.uvarint()
	marks := d.byte()
	r.Stream, r.Unparsed, r.Cut = record.Stream(marks&markStream), marks&markUnparsed != 0, marks&markCut != 0
	r.Priority = record.Priority(d.byte())
	r.Time, r.Received = d.stamp(), d.stamp()
	for _, v := range [...]*[]byte{&r.Host, &r.App, &r.ProcID, &r.MsgID, &r.Text, &r.Data, &r.Raw} {
		*v = d.text()
	}
	if intake := d.bytes(d.uvarint()); string(intake) != d.intake {
		d.intake = string(intake)
	}
	r.Intake = d.intake
	r.Peer = d.peer()
	if d.bad || r.Priority >= record.Priorities || marks&markStream == 3 {
		return 0, errDamaged
	}
	return step, nil
}
