package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

const sessionCookie = "oakbarrel_session"

type signInInput struct {
	Body client.SignIn
}

type sessionOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      client.Account
}

// signIn gives a session to who knows a password.
func (a *API) signIn(ctx context.Context, in *signInInput) (*sessionOutput, error) {
	key, account, err := access.SignIn(ctx, a.DB, in.Body.Name, in.Body.Password, addressOf(ctx))
	switch {
	case errors.Is(err, access.ErrWrong):
		return nil, problem(http.StatusUnauthorized, err.Error(), "")
	case errors.Is(err, access.ErrTooOften):
		return nil, withHeader(problem(http.StatusTooManyRequests, err.Error(), ""), "Retry-After", "60")
	case err != nil:
		return nil, a.unavailable(ctx, err)
	}
	a.noteFor(ctx, account.Name, "sign in", "")
	out := &sessionOutput{Body: client.Account{Name: account.Name, Role: account.Role}}
	out.SetCookie = http.Cookie{Name: sessionCookie, Value: key, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: a.Secure}
	return out, nil
}

type accountOutput struct{ Body client.Account }

// who tells who has signed in.
func (a *API) who(ctx context.Context, _ *struct{}) (*accountOutput, error) {
	v := visitor(ctx)
	if v.Role == "" {
		return nil, problem(http.StatusUnauthorized, "nobody has signed in", "")
	}
	return &accountOutput{client.Account{Name: v.Name, Role: v.Role}}, nil
}

type signOutInput struct {
	Key string `cookie:"oakbarrel_session"`
}

type signOutOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (a *API) signOut(ctx context.Context, in *signOutInput) (*signOutOutput, error) {
	if err := access.SignOut(a.DB.WithContext(ctx), in.Key); err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &signOutOutput{http.Cookie{Name: sessionCookie, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode}}, nil
}

// sameOrigin refuses what another site makes a browser send. Programs send no Origin.
func sameOrigin(c *gin.Context) {
	origin := c.GetHeader("Origin")
	if origin == "" || c.Request.Method == http.MethodGet {
		return
	}
	if u, err := url.Parse(origin); err != nil || u.Host != c.Request.Host {
		answer(c, problem(http.StatusForbidden, "the request comes from another site", ""))
	}
}
