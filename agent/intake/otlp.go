package intake

import (
	"compress/gzip"
	"context"
	"crypto/subtle"
	"crypto/tls"
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
	"strings"
	"sync"
	"time"

	"google.golang.org/protobuf/encoding/protowire"

	"oakbarrel/agent/credential"
	"oakbarrel/agent/guard"
	"oakbarrel/core/decode"
	"oakbarrel/core/otlp"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/route"
	"oakbarrel/unit"
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
	tls      *tlsSettings // nil without TLS
	draining sync.Once
	done     chan struct{}
}

// openOTLP opens an address for exports over HTTP, or over gRPC; with the intake's
// certificate where the network is encrypted.
func (a *Agent) openOTLP(key Key, s *plan.Syslog) (Endpoint, error) {
	encrypted := key.Network == HTTPS || key.Network == GRPCS
	var settings *tlsSettings
	var err error
	if encrypted {
		if settings, err = newTLSSettings(s); err != nil {
			return nil, err
		}
	}
	l, err := a.Unit.Listen(a.Ending, unit.TCP, key.Address)
	if err != nil {
		return nil, err
	}
	e := &otlpEndpoint{agent: a, listener: l, text: addressText(key.Network, l.Addr().String()), tls: settings, done: make(chan struct{})}
	mux := http.NewServeMux()
	if key.Network == GRPC || key.Network == GRPCS {
		mux.HandleFunc(grpcExport, e.exportGRPC)
	} else {
		mux.HandleFunc("POST /v1/logs", e.export)
	}
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(true)
	e.server = &http.Server{Handler: a.Guard.Handler(func() string { return guard.Intake(e.Owner().Name()) }, mux), Protocols: protocols, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: mostStreams},
		ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute, ErrorLog: slog.NewLogLogger(a.Log.Handler(), slog.LevelDebug)}
	if encrypted {
		e.server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
			config := settings.config(e.Owner().syslog.Load()).Clone()
			config.NextProtos = []string{"h2", "http/1.1"}
			return config, nil
		}}
	}
	return e, nil
}

// mostStreams bounds the calls that one connection has under way.
const mostStreams = 32

func (e *otlpEndpoint) Bound() string { return e.text }

func (e *otlpEndpoint) Run() {
	defer close(e.done)
	listener := placedListener{e.listener, &e.agent.places, func(err error) {
		e.Owner().turnedAway.Add(1)
		e.agent.Log.Debug("a connection is turned away", "address", e.text, "why", err)
	}}
	if e.tls != nil {
		e.server.ServeTLS(listener, "", "")
		return
	}
	e.server.Serve(listener)
}

func (e *otlpEndpoint) Drain(deadline time.Time) {
	e.draining.Do(func() {
		ctx, cancel := context.WithDeadline(context.Background(), deadline)
		defer cancel()
		if e.server.Shutdown(ctx) != nil {
			e.server.Close()
		}
		<-e.done
		e.agent.letGo(e.text)
	})
}

func (e *otlpEndpoint) Close() {
	e.listener.Close()
	e.agent.letGo(e.text)
}

// otlpWorks lends what a request needs.
var otlpWorks = sync.Pool{New: func() any { return new(otlpWork) }}

type otlpWork struct {
	batch   record.Batch
	routing route.Routing
	decoder *decode.Decoder // nil until it is needed
}

func (e *otlpEndpoint) export(w http.ResponseWriter, request *http.Request) {
	media, _, _ := mime.ParseMediaType(request.Header.Get("Content-Type"))
	if media != "application/x-protobuf" && media != "application/json" {
		refuse(w, request, http.StatusUnsupportedMediaType, "the body has to be application/x-protobuf or application/json")
		return
	}
	isJSON := media == "application/json"
	refused, why, problem := e.take(request, http.MaxBytesReader(w, request.Body, maxExport), request.Header.Get("Content-Encoding"), isJSON)
	if problem != nil {
		if problem.status == http.StatusServiceUnavailable {
			w.Header().Set("Retry-After", "5")
		}
		refuse(w, request, problem.status, problem.why)
		return
	}
	w.Header().Set("Content-Type", media)
	w.Write(otlp.Response(isJSON, refused, why))
}

// exportProblem says why an export is not taken, as a status of HTTP.
type exportProblem struct {
	status int
	why    string
}

// take takes the records of an export, whose body may be packed. It tells how many were
// refused, and why, or why none was taken.
func (e *otlpEndpoint) take(request *http.Request, packed io.Reader, coding string, isJSON bool) (refused int, why string, problem *exportProblem) {
	in := e.Owner()
	s := in.syslog.Load()
	from, _ := netip.ParseAddrPort(request.RemoteAddr)
	from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
	if problem = e.lets(s, request, from.Addr()); problem != nil {
		in.turnedAway.Add(1)
		return 0, "", problem
	}
	body, release, status, err := e.exportBody(request.Context(), packed, coding, isJSON)
	defer release()
	if err != nil {
		return 0, "", &exportProblem{status, err.Error()}
	}
	otlpTurns <- struct{}{}
	defer func() { <-otlpTurns }()
	work := otlpWorks.Get().(*otlpWork)
	defer otlpWorks.Put(work)
	work.batch.Reset()
	emptyDecoder(work.decoder)
	peer := &record.Peer{Addr: from}
	settings := otlp.Settings{Default: s.Default, Received: record.StampOf(time.Now())}
	taken, size := true, 0
	refused, why, err = otlp.Decode(body, isJSON, settings, func(r *record.Record) {
		work.decoder = decodeBody(work.decoder, s, r)
		if r.Peer = peer; !from.Addr().IsLoopback() {
			peerHost(false, r, nil)
		}
		*work.batch.Next() = *r
		if size += len(r.Text) + len(r.Data); len(work.batch.Records) >= otlpRecords || size >= otlpBytes {
			taken, size = taken && e.passOn(work), 0
		}
	})
	if err != nil {
		return 0, "", &exportProblem{http.StatusBadRequest, err.Error()}
	}
	if !taken || !e.passOn(work) {
		return 0, "", &exportProblem{http.StatusServiceUnavailable, "the agent stops and has not taken the records"}
	}
	in.read.Add(int64(refused))
	in.unreadable.Add(int64(refused))
	return refused, why, nil
}

// lets tells why a sender is not let in, nil where it is.
func (e *otlpEndpoint) lets(s *plan.Syslog, request *http.Request, from netip.Addr) *exportProblem {
	if !allows(s, from) {
		return &exportProblem{http.StatusForbidden, "this sender is not among the networks that are allowed"}
	}
	if s.TokenFile == "" {
		return nil
	}
	token, err := credential.Token(s.TokenFile)
	if err != nil {
		e.agent.Log.Error("nobody is let in", "address", e.text, "why", err)
		return &exportProblem{http.StatusServiceUnavailable, "the agent cannot read its token"}
	}
	given, bearer := strings.CutPrefix(request.Header.Get("Authorization"), "Bearer ")
	if !bearer || subtle.ConstantTimeCompare([]byte(given), []byte(token)) != 1 {
		return &exportProblem{http.StatusUnauthorized, "a token is needed: Authorization: Bearer TOKEN"}
	}
	return nil
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
	emptyDecoder(work.decoder)
	return taken
}

// jsonTimes is how often the bytes of a request in JSON stand in memory while it
// is taken apart.
const jsonTimes = 4

// exportBody reads a body, unpacked, within bounds, and with room for it, which
// release gives back.
func (e *otlpEndpoint) exportBody(ctx context.Context, packed io.Reader, coding string, isJSON bool) (body []byte, release func(), status int, err error) {
	from, release := packed, func() {}
	switch coding {
	case "", "identity":
	case "gzip":
		if from, err = gzip.NewReader(packed); err != nil {
			return nil, release, http.StatusBadRequest, fmt.Errorf("the body is not gzip: %w", err)
		}
	default:
		return nil, release, http.StatusUnsupportedMediaType, errors.New("the body may be packed by gzip alone")
	}
	m := &metered{Reader: io.LimitReader(from, maxExport+1), ctx: ctx, budget: e.agent.Memory, times: 2}
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
