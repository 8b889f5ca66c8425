// Package credential reads what an agent proves itself with to others: tokens and
// passwords in files of their own. They are read anew for each use, so that a new
// one is taken without a reload, and never appear in an error.
package credential

import (
	"fmt"
	"strings"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
)

// Most bounds the files of tokens, passwords and certificates, in bytes.
const Most = 1 << 20

// mostAnswer bounds an answer of the service, in bytes.
const mostAnswer = 4 << 20

// Token returns the token, password or address in a file, without the space
// around it. An empty file is an error.
func Token(file string) (string, error) {
	b, err := disk.ReadSmall(file, Most)
	token := strings.TrimSpace(string(b))
	if err == nil && token == "" {
		err = fmt.Errorf("%s is empty", file)
	}
	return token, err
}

// Client returns a client for the service of a plan. own returns the token that the
// store gave an agent in the place of the one in the file, or that one; nil for none.
func Client(s plan.Service, own func(token string) string) (*client.Client, error) {
	return client.New(client.Options{URLs: strings.Fields(s.URLs), Proxy: s.Proxy, TLS: client.TLS(s.TLS), Most: mostAnswer, Token: func() (string, error) {
		token, err := Token(s.TokenFile)
		if err == nil && own != nil {
			token = own(token)
		}
		return token, err
	}})
}
