package outlet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"oakbarrel/client"
	"oakbarrel/core/otlp"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// webRoad leads to a receiver that takes batches over HTTP: of the
// OpenTelemetry protocol, or JSON lines.
type webRoad struct {
	plainRoad
	to            plan.Remote
	otlp          bool
	outlet, agent string
	host          func() string
	http          *http.Client

	encoder  otlp.Encoder
	body     []byte
	packed   bytes.Buffer
	gzip     *gzip.Writer
	compress *zstd.Encoder
}

const webTime = time.Minute // for which an answer is waited for

func newWebRoad(s plan.Outlet, agentID string, host func() string) (*webRoad, error) {
	transport, err := client.Transport(client.TLS(s.Remote.TLS), "")
	if err != nil {
		return nil, err
	}
	w := &webRoad{to: s.Remote, otlp: s.Kind == plan.OTLPOutlet, outlet: s.Name, agent: agentID, host: host,
		http: &http.Client{Transport: transport, Timeout: webTime, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	switch s.Remote.Compress {
	case "gzip":
		w.gzip, _ = gzip.NewWriterLevel(nil, gzip.BestSpeed) // a known level; more effort would take most of the road's time
	case "zstd":
		if w.compress, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)); err != nil {
			return nil, err
		}
	}
	return w, nil
}

func (w *webRoad) begin(_ context.Context, here uint64) (uint64, error) { return here, nil }
func (w *webRoad) close()                                               { w.http.CloseIdleConnections() }

func (w *webRoad) reset() {
	w.body = w.body[:0]
	w.encoder.Reset()
}

func (w *webRoad) add(_ uint64, r *record.Record) {
	if w.otlp {
		w.encoder.Add(r)
		return
	}
	r.Agent = []byte(w.host()) // it is not kept in the spool
	if w.to.Body != nil {
		w.body = append(w.to.Body.AppendRecord(w.body, r), '\n')
		return
	}
	w.body = append(r.AppendJSON(w.body), '\n')
}

func (w *webRoad) depth() int { return 1 }

func (w *webRoad) pack(b spool.Batch, refused bool) delivery {
	return func(ctx context.Context) (uint64, error) { return w.deliver(ctx, b, refused) }
}

func (w *webRoad) deliver(ctx context.Context, b spool.Batch, refused bool) (uint64, error) {
	if b.Records == 0 || refused {
		return b.Last, nil
	}
	if w.otlp {
		w.body = w.encoder.Append(w.body[:0])
	}
	request, err := http.NewRequestWithContext(ctx, "POST", w.to.Address, bytes.NewReader(w.encoded()))
	if err != nil {
		return 0, err
	}
	if err := w.head(request.Header, b); err != nil {
		return 0, err
	}
	response, err := w.http.Do(request)
	if err != nil {
		return 0, &client.RetryLater{Err: &client.Unreachable{Address: w.to.Address, Err: errors.Unwrap(err)}}
	}
	defer response.Body.Close()
	answer, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20)) // so that the connection can be used again
	if err := w.judge(response, answer); err != nil {
		return 0, err
	}
	return b.Last, w.partly(answer)
}

// encoded returns the body as it is sent.
func (w *webRoad) encoded() []byte {
	switch {
	case w.gzip != nil:
		w.packed.Reset()
		w.gzip.Reset(&w.packed)
		w.gzip.Write(w.body)
		w.gzip.Close()
		return w.packed.Bytes()
	case w.compress != nil:
		return w.compress.EncodeAll(w.body, nil)
	}
	return w.body
}

func (w *webRoad) head(h http.Header, b spool.Batch) error {
	places := strings.NewReplacer("{host}", w.host(), "{agent}", w.agent, "{outlet}", w.outlet,
		"{first}", strconv.FormatUint(b.First, 10), "{last}", strconv.FormatUint(b.Last, 10), "{records}", strconv.Itoa(b.Records))
	h.Set("Content-Type", "application/x-ndjson")
	switch {
	case w.otlp:
		h.Set("Content-Type", "application/x-protobuf")
	case w.to.Body != nil && !w.to.Body.IsJSON():
		h.Set("Content-Type", "text/plain; charset=utf-8")
	case w.to.Body != nil && b.Records == 1:
		h.Set("Content-Type", "application/json")
	}
	if w.to.Compress != "none" {
		h.Set("Content-Encoding", w.to.Compress)
	}
	return setHeaders(h, w.to.Auth, places)
}

// judge tells what an answer means. What a receiver cannot take now is sent
// again; what it does not take for what is in it is split; with anything else
// there is something to mend, here or there.
func (w *webRoad) judge(response *http.Response, answer []byte) error {
	status := response.StatusCode
	if status < 300 {
		return nil
	}
	said := record.Visible(strings.TrimSpace(string(answer[:min(len(answer), 200)])))
	if w.otlp {
		said = "" // it is a message in protobuf
	}
	why := fmt.Errorf("%s answers %s %s", w.to.Address, response.Status, said)
	switch {
	case status == http.StatusTooManyRequests, status == http.StatusRequestTimeout, status >= 500:
		return &client.RetryLater{After: client.RetryAfter(response), Err: why}
	case status == http.StatusBadRequest, status == http.StatusRequestEntityTooLarge, status == http.StatusUnprocessableEntity:
		return &badBatch{why}
	}
	return why
}

// partlyRefused says that a batch is taken, but for some of its records.
type partlyRefused struct {
	records int64
	why     string
}

func (e *partlyRefused) Error() string { return e.why }

// partly reads how many records a receiver of the OpenTelemetry protocol has refused.
func (w *webRoad) partly(answer []byte) error {
	if !w.otlp {
		return nil
	}
	records, why := otlp.Refused(answer)
	if records == 0 {
		return nil
	}
	return &partlyRefused{records, record.Visible(why)}
}
