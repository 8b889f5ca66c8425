package api

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"oakbarrel/service/access"
)

type visitorKey struct{}

// visitor returns who asks. Only what need has let pass has one.
func visitor(ctx context.Context) access.Visitor { return ctx.Value(visitorKey{}).(access.Visitor) }

// need lets a request of a typed handler pass if its visitor may do what is named.
func (a *API) need(what string) huma.Middlewares {
	return huma.Middlewares{func(ctx huma.Context, next func(huma.Context)) {
		c := humagin.Unwrap(ctx)
		if v, err := a.admit(c, what); err != nil {
			answer(c, err)
		} else {
			next(huma.WithValue(ctx, visitorKey{}, v))
		}
	}}
}

// needGin does the same for a handler that is not typed.
func (a *API) needGin(what string) gin.HandlerFunc {
	return func(c *gin.Context) {
		if v, err := a.admit(c, what); err != nil {
			answer(c, err)
		} else {
			c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), visitorKey{}, v))
		}
	}
}

// admit finds out who asks, by a token or a sign-in, and whether they may. An
// agent with a token of its own may speak for itself alone.
func (a *API) admit(c *gin.Context, what string) (v access.Visitor, err error) {
	r := c.Request
	if header := r.Header.Get("Authorization"); header != "" {
		v, err = a.byToken(r.Context(), header, what)
	} else {
		v, err = a.bySession(r)
	}
	switch {
	case errors.Is(err, access.ErrUnknown):
		return v, withHeader(problem(http.StatusUnauthorized, "the request brings no token", access.MakeToken("NAME", what)), "WWW-Authenticate", "Bearer")
	case err != nil:
		return v, err
	}
	if refusal := v.Need(what); refusal != nil {
		return v, problem(http.StatusForbidden, refusal.What, refusal.Mend)
	}
	if agent := c.Param("agent"); v.Agent != "" && agent != v.Agent {
		return v, problem(http.StatusForbidden, "the token is that of another agent", "invite this one too: oakbarrel hosts invite --cask NAME")
	}
	return v, nil
}

func (a *API) byToken(ctx context.Context, header, what string) (v access.Visitor, err error) {
	text, ok := strings.CutPrefix(header, "Bearer ")
	if !ok || text == "" {
		return v, access.ErrUnknown
	}
	token, err := access.Find(a.DB.WithContext(ctx), text)
	if errors.Is(err, access.ErrUnknown) {
		return v, withHeader(problem(http.StatusUnauthorized, "the token is not known here", access.MakeToken("NAME", what)), "WWW-Authenticate", "Bearer")
	}
	if err != nil {
		return v, a.unavailable(ctx, err)
	}
	return access.OfToken(token), nil
}

// bySession returns who has signed in, or access.ErrUnknown.
func (a *API) bySession(r *http.Request) (v access.Visitor, err error) {
	cookie, err := r.Cookie(sessionCookie)
	if err != nil {
		return v, access.ErrUnknown
	}
	account, err := access.Session(a.DB.WithContext(r.Context()), cookie.Value)
	if err != nil && !errors.Is(err, access.ErrUnknown) {
		return v, a.unavailable(r.Context(), err)
	}
	return access.OfAccount(account), err
}

type addressKey struct{}

// rememberAddress lets handlers know where a request comes from.
func rememberAddress(c *gin.Context) {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		host = c.Request.RemoteAddr
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), addressKey{}, host))
}

// addressOf returns where a request comes from.
func addressOf(ctx context.Context) string { return ctx.Value(addressKey{}).(string) }
