package intake

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"runtime"
	"sync"
	"time"

	"google.golang.org/protobuf/encoding/protowire"

	"oakbarrel/agent/guard"
	"oakbarrel/core/decode"
	"oakbarrel/core/otlp"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

// maxExport bounds the body of an export request, in bytes, also unpacked.
const maxExport = 16 << 20

// otlpEndpoint takes export requests of logs over HTTP. An answer means that
// the records are taken; while an outlet is full it is held back.
type otlpEndpoint struct {
	Common
	agent    *Agent
	listener net.Listener
	server   *http.Server
	text     string
	draining sync.Once
	done     chan struct{}
}

func (a *Agent) openOTLP(address string) (Endpoint, error) {
	l, err := (&net.ListenConfig{}).Listen(a.Ending, "tcp", address)
	if err != nil {
		return nil, err
	}
	e := &otlpEndpoint{agent: a, listener: l, text: addressText(HTTP, l.Addr().String()), done: make(chan struct{})}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/logs", e.export)
	e.server = &http.Server{Handler: a.Guard.Handler(func() string { return guard.Intake(e.Owner().Name()) }, mux), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(a.Log.Handler(), slog.LevelDebug)}
	return e, nil
}

func (e *otlpEndpoint) Bound() string { return e.text }

func (e *otlpEndpoint) Run() {
	defer close(e.done)
	e.server.Serve(placedListener{e.listener, &e.agent.places, func(err error) {
		e.Owner().turnedAway.Add(1)
		e.agent.Log.Debug("a connection is turned away", "address", e.text, "why", err)
	}})
}

func (e *otlpEndpoint) Drain(deadline time.Time) {
	e.draining.Do(func() {
		ctx, cancel := context.WithDeadline(context.Background(), deadline)
		defer cancel()
		if e.server.Shutdown(ctx) != nil {
			e.server.Close()
		}
		<-e.done
	})
}

func (e *otlpEndpoint) Close() { e.listener.Close() }

// otlpWorks lends what a request needs.
var otlpWorks = sync.Pool{New: func() any { return new(otlpWork) }}

type otlpWork struct {
	batch   record.Batch
	routing route.Routing
	decoder decode.Decoder
}

func (e *otlpEndpoint) export(w http.ResponseWriter, request *http.Request) {
	in := e.Owner()
	s := in.syslog.Load()
	from, _ := netip.ParseAddrPort(request.RemoteAddr)
	from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
	if !allows(s, from.Addr()) {
		in.turnedAway.Add(1)
		refuse(w, request, http.StatusForbidden, "this sender is not among the networks that are allowed")
		return
	}
	media, _, _ := mime.ParseMediaType(request.Header.Get("Content-Type"))
	if media != "application/x-protobuf" && media != "application/json" {
		refuse(w, request, http.StatusUnsupportedMediaType, "the body has to be application/x-protobuf or application/json")
		return
	}
	isJSON := media == "application/json"
	body, release, status, err := e.exportBody(w, request, isJSON)
	defer release()
	if err != nil {
		if status == http.StatusServiceUnavailable {
			w.Header().Set("Retry-After", "5")
		}
		refuse(w, request, status, err.Error())
		return
	}
	otlpTurns <- struct{}{}
	defer func() { <-otlpTurns }()
	work := otlpWorks.Get().(*otlpWork)
	defer otlpWorks.Put(work)
	work.batch.Reset()
	work.decoder.Memory = nil
	peer := &record.Peer{Addr: from}
	settings := otlp.Settings{Default: s.Default, Received: record.StampOf(time.Now())}
	taken, size := true, 0
	refused, why, err := otlp.Decode(body, isJSON, settings, func(r *record.Record) {
		decodeBody(&work.decoder, s, r)
		if r.Peer = peer; !from.Addr().IsLoopback() {
			peerHost(false, r, nil)
		}
		*work.batch.Next() = *r
		if size += len(r.Text) + len(r.Data); len(work.batch.Records) >= otlpRecords || size >= otlpBytes {
			taken, size = taken && e.passOn(work), 0
		}
	})
	if err != nil {
		refuse(w, request, http.StatusBadRequest, err.Error())
		return
	}
	if !taken || !e.passOn(work) {
		w.Header().Set("Retry-After", "5")
		refuse(w, request, http.StatusServiceUnavailable, "the agent stops and has not taken the records")
		return
	}
	in.read.Add(int64(refused))
	in.unreadable.Add(int64(refused))
	w.Header().Set("Content-Type", media)
	w.Write(otlp.Response(isJSON, refused, why))
}

// Bounds of what is passed on of a request at a time.
const (
	otlpRecords = 1000
	otlpBytes   = 1 << 20
)

// otlpTurns lets as many requests be taken apart at a time as there are cores:
// what one record takes then is far more than its bytes.
var otlpTurns = make(chan struct{}, max(2, runtime.GOMAXPROCS(0)))

// passOn passes on what was made of a request so far. Others may have their turn
// while it waits.
func (e *otlpEndpoint) passOn(work *otlpWork) bool {
	if len(work.batch.Records) == 0 {
		return true
	}
	<-otlpTurns
	defer func() { otlpTurns <- struct{}{} }()
	taken := e.agent.pass(&work.batch, &work.routing, e, true)
	clear(work.batch.Records) // what they hold is the request's
	work.batch.Reset()
	work.decoder.Memory = work.decoder.Memory[:0]
	return taken
}

// jsonTimes is how often the bytes of a request in JSON stand in memory while it
// is taken apart.
const jsonTimes = 4

// exportBody reads a body, unpacked, within bounds, and with room for it, which
// release gives back.
func (e *otlpEndpoint) exportBody(w http.ResponseWriter, request *http.Request, isJSON bool) (body []byte, release func(), status int, err error) {
	from, release := io.Reader(http.MaxBytesReader(w, request.Body, maxExport)), func() {}
	switch coding := request.Header.Get("Content-Encoding"); coding {
	case "", "identity":
	case "gzip":
		if from, err = gzip.NewReader(from); err != nil {
			return nil, release, http.StatusBadRequest, fmt.Errorf("the body is not gzip: %w", err)
		}
	default:
		return nil, release, http.StatusUnsupportedMediaType, errors.New("the body may be packed by gzip alone")
	}
	m := &metered{Reader: io.LimitReader(from, maxExport+1), ctx: request.Context(), budget: e.agent.Memory, times: 2}
	if isJSON {
		m.times = jsonTimes
	}
	body, err = io.ReadAll(m)
	var large *http.MaxBytesError
	switch {
	case errors.Is(err, errNoRoom):
		return nil, m.release, http.StatusServiceUnavailable, errNoRoom
	case errors.As(err, &large) || len(body) > maxExport:
		return nil, m.release, http.StatusRequestEntityTooLarge, errors.New("a request has at most 16 MiB, also unpacked")
	case err != nil:
		return nil, m.release, http.StatusBadRequest, fmt.Errorf("the body cannot be read: %w", err)
	}
	return body, m.release, 0, nil
}

// refuse answers with a Status, as the protocol wants it, in the form of the request.
func refuse(w http.ResponseWriter, request *http.Request, status int, why string) {
	if media, _, _ := mime.ParseMediaType(request.Header.Get("Content-Type")); media == "application/x-protobuf" {
		w.Header().Set("Content-Type", media)
		w.WriteHeader(status)
		w.Write(protowire.AppendString(protowire.AppendTag(nil, 2, protowire.BytesType), why))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]string{"message": why})
}
