package api

import (
	"context"
	"errors"
	"net/http"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

type accountsOutput struct{ Body []client.GivenAccount }

// accounts lists the accounts that there are.
func (a *API) accounts(ctx context.Context, _ *struct{}) (*accountsOutput, error) {
	all, err := access.Accounts(a.DB.WithContext(ctx))
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &accountsOutput{all}, nil
}

// AccountPath names an account.
type AccountPath struct {
	Account string `path:"account" maxLength:"64" doc:"the account's name"`
}

type setAccountInput struct {
	AccountPath
	Body client.SetAccount
}

// setAccount gives an account another role or password.
func (a *API) setAccount(ctx context.Context, in *setAccountInput) (*struct{}, error) {
	err := access.SetAccount(a.DB.WithContext(ctx), in.Account, in.Body.Role, in.Body.Password, "")
	if err != nil {
		return nil, a.accountProblem(ctx, err)
	}
	what := "account " + in.Account
	if in.Body.Role != "" {
		what += ", role " + in.Body.Role
	}
	if in.Body.Password != "" {
		what += ", another password"
	}
	a.record(ctx, "set account", what)
	return nil, nil
}

// removeAccount removes an account.
func (a *API) removeAccount(ctx context.Context, in *AccountPath) (*struct{}, error) {
	if err := access.RemoveAccount(a.DB.WithContext(ctx), in.Account); err != nil {
		return nil, a.accountProblem(ctx, err)
	}
	a.record(ctx, "remove account", "account "+in.Account)
	return nil, nil
}

func (a *API) accountProblem(ctx context.Context, err error) error {
	switch {
	case errors.Is(err, access.ErrNoAccount):
		return problem(http.StatusNotFound, err.Error(), "oakbarrel account list tells those that there are")
	case errors.Is(err, access.ErrLastAdmin):
		return problem(http.StatusConflict, err.Error(), "")
	}
	return a.unavailable(ctx, err)
}

type setPasswordInput struct {
	Key  string `cookie:"oakbarrel_session"`
	Body client.SetPassword
}

// setPassword changes the password of who has signed in, and ends the other sessions.
func (a *API) setPassword(ctx context.Context, in *setPasswordInput) (*struct{}, error) {
	v := visitor(ctx)
	if v.Role == "" {
		return nil, problem(http.StatusForbidden, "a token has no password", "sign in with an account")
	}
	switch err := access.ChangePassword(ctx, a.DB, v.Name, in.Body.Old, in.Body.New, in.Key, addressOf(ctx)); {
	case errors.Is(err, access.ErrWrong):
		return nil, problem(http.StatusForbidden, "the old password is wrong", "")
	case errors.Is(err, access.ErrTooOften):
		return nil, withHeader(problem(http.StatusTooManyRequests, err.Error(), ""), "Retry-After", "60")
	case err != nil:
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "change password", "its own; its other sessions have ended")
	return nil, nil
}
