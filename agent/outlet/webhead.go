package outlet

import (
	"net/http"
	"strings"

	"oakbarrel/agent/credential"
	"oakbarrel/core/plan"
)

// setHeaders sets what a plan says of a request: its headers, with their places filled in,
// and what proves who asks. What stands in files is read anew.
func setHeaders(h http.Header, who plan.WebAuth, places *strings.Replacer) error {
	for _, header := range who.Headers {
		value := places.Replace(header.Value)
		if header.File != "" {
			var err error
			if value, err = credential.Token(header.File); err != nil {
				return err
			}
		}
		h.Set(header.Name, value)
	}
	h.Set("User-Agent", "oakbarrel")
	switch {
	case who.TokenFile != "":
		token, err := credential.Token(who.TokenFile)
		if err != nil {
			return err
		}
		h.Set("Authorization", "Bearer "+token)
	case who.User != "":
		password, err := credential.Token(who.PasswordFile)
		if err != nil {
			return err
		}
		r := http.Request{Header: h}
		r.SetBasicAuth(who.User, password)
	}
	return nil
}
