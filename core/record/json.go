package record

import (
	"encoding/base64"
	"strconv"
)

// AppendJSON writes r as one JSON object on one line, without a newline: its
// properties in a fixed order, missing ones left out, times in RFC 3339 with
// up to nanoseconds and the offset as sent, Raw in base64. It allocates
// nothing where dst has room.
func (r *Record) AppendJSON(dst []byte) []byte {
	dst = append(dst, '{')
	dst = appendStamp(dst, `"time":"`, r.Time)
	dst = appendStamp(dst, `"received":"`, r.Received)
	dst = append(dst, `"facility":"`...)
	dst = append(dst, r.Facility().String()...)
	dst = append(dst, `","severity":"`...)
	dst = append(dst, r.Severity().String()...)
	dst = append(dst, '"')
	dst = appendProperty(dst, `,"host":`, r.Host)
	dst = appendProperty(dst, `,"agent":`, r.Agent)
	dst = appendProperty(dst, `,"app":`, r.App)
	dst = appendProperty(dst, `,"procid":`, r.ProcID)
	dst = appendProperty(dst, `,"msgid":`, r.MsgID)
	dst = appendProperty(dst, `,"text":`, r.Text)
	if r.HasFields() {
		dst = append(dst, `,"fields":`...)
		dst = r.Fields().Root().AppendJSON(dst)
	}
	if r.Intake != "" {
		dst = AppendJSONString(append(dst, `,"intake":`...), []byte(r.Intake))
	}
	if r.Peer != nil {
		dst = append(dst, `,"peer":`...)
		dst = r.Peer.appendJSON(dst)
	}
	if r.Stream != NoStream {
		dst = append(dst, `,"stream":"`...)
		dst = append(append(dst, r.Stream.String()...), '"')
	}
	if r.Raw != nil {
		dst = append(dst, `,"raw":"`...)
		dst = append(base64.StdEncoding.AppendEncode(dst, r.Raw), '"')
	}
	return append(dst, '}')
}

func appendStamp(dst []byte, key string, s Stamp) []byte {
	if s.IsZero() {
		return dst
	}
	return append(s.Append(append(dst, key...), 9), '"', ',')
}

func appendProperty(dst []byte, key string, v []byte) []byte {
	if v == nil {
		return dst
	}
	return AppendJSONString(append(dst, key...), v)
}

func (p *Peer) appendJSON(dst []byte) []byte {
	if p.Addr.IsValid() {
		dst = append(dst, `{"address":"`...)
		return append(p.Addr.AppendTo(dst), `"}`...)
	}
	dst = strconv.AppendInt(append(dst, `{"pid":`...), int64(p.PID), 10)
	dst = strconv.AppendUint(append(dst, `,"uid":`...), uint64(p.UID), 10)
	dst = strconv.AppendUint(append(dst, `,"gid":`...), uint64(p.GID), 10)
	return append(dst, '}')
}

// AppendText writes the peer for people: an address, or "pid 412 uid 0".
func (p *Peer) AppendText(dst []byte) []byte {
	if p.Addr.IsValid() {
		return p.Addr.AppendTo(dst)
	}
	dst = strconv.AppendInt(append(dst, "pid "...), int64(p.PID), 10)
	return strconv.AppendUint(append(dst, " uid "...), uint64(p.UID), 10)
}

// AppendJSON writes the value as JSON on one line.
func (v Value) AppendJSON(dst []byte) []byte {
	switch v.Kind() {
	case Null:
		return append(dst, "null"...)
	case Bool, Number:
		return append(dst, v.Text()...)
	case String:
		return AppendJSONString(dst, v.Text())
	}
	opening, closing := byte('['), byte(']')
	if v.Kind() == Object {
		opening, closing = '{', '}'
	}
	dst = append(dst, opening)
	first := v.First()
	for c := first; c.More(); c = c.Next() {
		if c != first {
			dst = append(dst, ',')
		}
		if v.Kind() == Object {
			dst = append(AppendJSONString(dst, c.Key()), ':')
		}
		dst = c.AppendJSON(dst)
	}
	return append(dst, closing)
}
