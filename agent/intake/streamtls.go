package intake

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"oakbarrel/agent/credential"
	"oakbarrel/core/disk"
	"oakbarrel/core/fingerprint"
	"oakbarrel/core/plan"
)

const (
	handshakeTime = 10 * time.Second
	recordSize    = 16 << 10 // the most that one record of TLS holds
)

// runTLS is run for a connection with TLS.
func (c *streamConn) runTLS() {
	defer c.end()
	conn := c.conn.(*tls.Conn)
	conn.SetDeadline(time.Now().Add(handshakeTime))
	if err := conn.Handshake(); err != nil {
		if c.endpoint.drainsUntil().IsZero() {
			c.endpoint.Owner().turnedAway.Add(1)
			c.endpoint.tell("a connection is turned away", fmt.Errorf("%s: %w", c.peer.Addr.Addr(), err))
		}
		return
	}
	conn.SetDeadline(time.Time{})
	c.readPieces()
}

// runPlain is run for a connection without TLS that is read as one with it.
func (c *streamConn) runPlain() {
	defer c.end()
	c.readPieces()
}

func (c *streamConn) readPieces() {
	conn := c.conn
	if !c.endpoint.drainsUntil().IsZero() {
		conn.SetReadDeadline(time.Now())
	}
	piece := make([]byte, recordSize)
	draining := false
	for {
		c.setIdle()
		n, err := conn.Read(piece)
		if n > 0 && !c.takePiece(piece[:n]) {
			return
		}
		if deadline := c.endpoint.drainsUntil(); time.Now().Before(deadline) && (draining || errors.Is(err, os.ErrDeadlineExceeded)) {
			if n > 0 || !draining { // as long as it comes without a pause
				draining = true
				conn.SetReadDeadline(time.Now().Add(acceptTime))
				continue
			}
		}
		if err != nil && errors.Is(err, os.ErrDeadlineExceeded) && c.framer.Open() && c.endpoint.drainsUntil().IsZero() && c.settle() {
			continue
		}
		if err != nil {
			c.rest()
			return
		}
	}
}

func (c *streamConn) takePiece(piece []byte) bool {
	c.lend()
	c.read = copy(c.work.buffer[len(c.begun):], piece)
	return c.takeMessages()
}

// tlsSettings reads the certificates of an intake again when their files, or
// the plan, change.
type tlsSettings struct {
	mu     sync.Mutex
	plan   *plan.Syslog
	stamps [3]time.Time // of the files when they were read
	looked time.Time
	ready  *tls.Config
}

// newTLSSettings returns an error where a file cannot be used.
func newTLSSettings(s *plan.Syslog) (t *tlsSettings, err error) {
	t = &tlsSettings{plan: s}
	t.stamps = t.modified()
	t.ready, err = t.read()
	return t, err
}

// lookTime is how often the files are looked at, at most.
const lookTime = time.Second

// config returns what a new connection needs. Files that changed and cannot be
// used are passed over: they may be about to be written.
func (t *tlsSettings) config(s *plan.Syslog) *tls.Config {
	t.mu.Lock()
	defer t.mu.Unlock()
	changed := s != t.plan
	if !changed && time.Since(t.looked) < lookTime {
		return t.ready
	}
	t.plan, t.looked = s, time.Now()
	if stamps := t.modified(); changed || stamps != t.stamps {
		if config, err := t.read(); err == nil {
			t.stamps, t.ready = stamps, config
		}
	}
	return t.ready
}

func (t *tlsSettings) modified() (stamps [3]time.Time) {
	for i, file := range []string{t.plan.Certificate, t.plan.KeyFile, t.plan.Clients.CAFile} {
		if st, err := os.Stat(file); err == nil {
			stamps[i] = st.ModTime()
		}
	}
	return stamps
}

func (t *tlsSettings) read() (*tls.Config, error) {
	certificate, err := tls.LoadX509KeyPair(t.plan.Certificate, t.plan.KeyFile)
	if err != nil {
		return nil, fmt.Errorf("the certificate cannot be used: %w", err)
	}
	config := &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
	switch c := t.plan.Clients; {
	case c.Anyone:
	case c.CAFile != "":
		pem, err := disk.ReadSmall(c.CAFile, credential.Most)
		if err != nil {
			return nil, fmt.Errorf("the authority of the clients cannot be read: %w", err)
		}
		config.ClientCAs = x509.NewCertPool()
		if !config.ClientCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", c.CAFile)
		}
		config.ClientAuth = tls.RequireAndVerifyClientCert
	default:
		config.ClientAuth = tls.RequireAnyClientCert
		config.VerifyConnection = func(s tls.ConnectionState) error {
			if got := fingerprint.Of(s.PeerCertificates[0].Raw); !slices.Contains(c.Fingerprints, got) {
				return fmt.Errorf("the client's certificate, %s, is not among those that may connect", got)
			}
			return nil
		}
	}
	return config, nil
}
