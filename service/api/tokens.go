package api

import (
	"context"
	"errors"
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

type tokensOutput struct{ Body []client.GivenToken }

// tokens lists the tokens that there are.
func (a *API) tokens(ctx context.Context, _ *struct{}) (*tokensOutput, error) {
	all, err := access.Tokens(a.DB.WithContext(ctx))
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &tokensOutput{all}, nil
}

type tokenPath struct {
	Token uint64 `path:"token" doc:"the token's id"`
}

// revokeToken takes a token away.
func (a *API) revokeToken(ctx context.Context, in *tokenPath) (*struct{}, error) {
	switch err := access.RevokeToken(a.DB.WithContext(ctx), in.Token); {
	case errors.Is(err, access.ErrUnknown):
		return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no token %d", in.Token), "oakbarrel token list tells those that there are")
	case err != nil:
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "revoke token", fmt.Sprintf("token %d", in.Token))
	return nil, nil
}
