package metrics

import (
	"errors"
	"log/slog"
	"net"
	"net/http"
	"runtime/debug"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/net/netutil"
)

// What keeps others from using the figures against the process that tells them.
const (
	mostConnections = 16
	mostScrapes     = 2 // at a time
	freshFor        = time.Second
	scrapeTime      = 10 * time.Second
)

// Path is where the figures are.
const Path = "/metrics"

// Server serves figures at one address.
type Server struct {
	listener net.Listener
	server   *http.Server
}

// Listen serves figures, and those of the process and of Go's runtime, until Close. An
// error says why the address cannot be listened on.
func Listen(address string, log *slog.Logger, all ...*Figures) (*Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &Server{listener: l, server: &http.Server{
		Handler: handler(log, all), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 5 * time.Second, WriteTimeout: scrapeTime, IdleTimeout: time.Minute,
		MaxHeaderBytes: 16 << 10, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}}
	go s.server.Serve(netutil.LimitListener(l, mostConnections))
	return s, nil
}

// Address returns where it listens.
func (s *Server) Address() string { return s.listener.Addr().String() }

// Close ends the serving at once.
func (s *Server) Close() { s.server.Close() }

func handler(log *slog.Logger, all []*Figures) http.Handler {
	known := prometheus.NewRegistry()
	known.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	for _, f := range all {
		known.MustRegister(&latest{figures: f, log: log})
	}
	scrape := promhttp.HandlerFor(known, promhttp.HandlerOpts{EnableOpenMetrics: true, ErrorHandling: promhttp.ContinueOnError, MaxRequestsInFlight: mostScrapes, Timeout: scrapeTime})
	mux := http.NewServeMux()
	mux.Handle("GET "+Path, scrape)
	return mux
}

// errFailed says that figures could not be made.
var errFailed = errors.New("figures have failed; the log tells where")

// latest are figures that are made anew once a second at most, however many ask.
type latest struct {
	figures *Figures
	log     *slog.Logger
	mu      sync.Mutex
	made    time.Time
	metrics []prometheus.Metric
}

// Describe tells of nothing: the samples differ with the plan.
func (l *latest) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (l *latest) Collect(to chan<- prometheus.Metric) {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer func() { // it runs in a goroutine of the library, where nobody else would catch it
		if what := recover(); what != nil {
			l.log.Error("figures cannot be told", "why", what, "where", string(debug.Stack()))
			to <- prometheus.NewInvalidMetric(prometheus.NewInvalidDesc(errFailed), errFailed)
		}
	}()
	if now := time.Now(); now.Sub(l.made) > freshFor {
		l.metrics, l.made = l.figures.make(), now
	}
	for _, m := range l.metrics {
		to <- m
	}
}
