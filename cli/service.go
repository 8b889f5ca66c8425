package cli

import (
	"os"
	"strings"

	"oakbarrel/client"
)

// How the environment names the service, beside OAKBARREL_URL and OAKBARREL_TOKEN.
const (
	caFileVariable      = "OAKBARREL_CA_FILE"
	fingerprintVariable = "OAKBARREL_FINGERPRINT"
)

// storeClient returns a client that brings the token of the environment.
func storeClient() (*client.Client, error) {
	token := os.Getenv("OAKBARREL_TOKEN")
	if token == "" {
		return nil, usageError("set OAKBARREL_URL to the address of the service and OAKBARREL_TOKEN to a token that may read")
	}
	return serviceClient(func() (string, error) { return token, nil })
}

// serviceClient returns a client for the service of the environment.
func serviceClient(token func() (string, error)) (*client.Client, error) {
	url := os.Getenv("OAKBARREL_URL")
	if strings.TrimSpace(url) == "" {
		return nil, usageError("set OAKBARREL_URL to the address of the service")
	}
	c, err := client.New(client.Options{URLs: strings.Fields(url), Token: token, TLS: client.TLS{CAFile: os.Getenv(caFileVariable), Fingerprint: os.Getenv(fingerprintVariable)}})
	return c, couldNot(err)
}
