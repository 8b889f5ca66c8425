package client

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"

	"oakbarrel/core/fingerprint"
)

// tlsConfig returns how a service's certificate is judged: by the system's and
// the given authorities, or by its fingerprint alone, or by both.
func tlsConfig(o Options) (*tls.Config, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if o.CAFile != "" {
		pem, err := os.ReadFile(o.CAFile)
		if err != nil {
			return nil, err
		}
		if config.RootCAs, err = x509.SystemCertPool(); err != nil {
			config.RootCAs = x509.NewCertPool()
		}
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", o.CAFile)
		}
	}
	if o.Fingerprint == "" {
		return config, nil
	}
	want, err := fingerprint.Parse(o.Fingerprint)
	if err != nil {
		return nil, err
	}
	config.InsecureSkipVerify = o.CAFile == "" // the fingerprint tells more than a name can
	config.VerifyConnection = func(s tls.ConnectionState) error {
		if got := fingerprint.Of(s.PeerCertificates[0].Raw); got != want {
			return fmt.Errorf("its certificate has another fingerprint, %s; if it was changed on purpose, write the new one", got)
		}
		return nil
	}
	return config, nil
}
