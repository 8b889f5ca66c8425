package client

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"

	"oakbarrel/core/fingerprint"
)

// TLS says how the other side's certificate is judged, and which is shown to it.
type TLS struct {
	CAFile      string // certificates to trust beside the system's, "" for none
	Fingerprint string // of the only certificate to trust, see fingerprint.Parse; "" for none
	// Certificate and KeyFile are shown to the other side, "" for none.
	Certificate, KeyFile string
}

// Config reads the files. The other side's certificate is judged by the
// system's and the given authorities, or by its fingerprint alone, or by both.
func (t TLS) Config() (*tls.Config, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if t.CAFile != "" {
		pem, err := os.ReadFile(t.CAFile)
		if err != nil {
			return nil, err
		}
		if config.RootCAs, err = x509.SystemCertPool(); err != nil {
			config.RootCAs = x509.NewCertPool()
		}
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", t.CAFile)
		}
	}
	if t.Certificate != "" {
		own, err := tls.LoadX509KeyPair(t.Certificate, t.KeyFile)
		if err != nil {
			return nil, fmt.Errorf("the certificate to show cannot be used: %w", err)
		}
		config.Certificates = []tls.Certificate{own}
	}
	if t.Fingerprint == "" {
		return config, nil
	}
	want, err := fingerprint.Parse(t.Fingerprint)
	if err != nil {
		return nil, err
	}
	config.InsecureSkipVerify = t.CAFile == "" // the fingerprint tells more than a name can
	config.VerifyConnection = func(s tls.ConnectionState) error {
		if got := fingerprint.Of(s.PeerCertificates[0].Raw); got != want {
			return fmt.Errorf("its certificate has another fingerprint, %s; if it was changed on purpose, write the new one", got)
		}
		return nil
	}
	return config, nil
}
