package api

import (
	"context"
	"fmt"
	"net/http"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

type newTokenInput struct{ Body client.NewToken }

type tokenOutput struct{ Body client.Token }

// newToken makes a token, which is shown this once.
func (a *API) newToken(ctx context.Context, in *newTokenInput) (*tokenOutput, error) {
	n := in.Body
	if n.May == access.Admin && n.Cask != access.EveryCask {
		return nil, problem(http.StatusBadRequest, "an admin is not bound to a cask", "name the cask *")
	}
	token, err := access.NewToken(a.DB.WithContext(ctx), n.Cask, n.May, n.Label)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "make token", fmt.Sprintf("may %s, cask %s, %s", n.May, n.Cask, n.Label))
	return &tokenOutput{client.Token{Token: token, NewToken: n}}, nil
}
