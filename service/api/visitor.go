package api

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

type visitorKey struct{}

// visitor returns who asks. Only what need has let pass has one.
func visitor(ctx context.Context) access.Visitor { return ctx.Value(visitorKey{}).(access.Visitor) }

// admission finds out who asks, and whether they may.
type admission func(*gin.Context) (access.Visitor, error)

// need lets a request of a typed handler pass if its visitor may do what is named.
func (a *API) need(what string) huma.Middlewares {
	return a.typed(func(c *gin.Context) (access.Visitor, error) { return a.admit(c, what) })
}

// needAgent lets an agent speak for itself, and nobody else for it.
func (a *API) needAgent() huma.Middlewares { return a.typed(a.admitAgent) }

// typed makes an admission one of typed handlers.
func (a *API) typed(admit admission) huma.Middlewares {
	return huma.Middlewares{func(ctx huma.Context, next func(huma.Context)) {
		c := humagin.Unwrap(ctx)
		if v, err := admit(c); err != nil {
			a.slowDown(c, err)
			answer(c, err)
		} else {
			next(huma.WithValue(ctx, visitorKey{}, v))
		}
	}}
}

// untyped does the same for a handler that is not typed.
func (a *API) untyped(admit admission) gin.HandlerFunc {
	return func(c *gin.Context) {
		if v, err := admit(c); err != nil {
			a.slowDown(c, err)
			answer(c, err)
		} else {
			c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), visitorKey{}, v))
		}
	}
}

// admit finds out who asks, by a token or a sign-in, and whether they may.
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
	return v, nil
}

// admitAccount lets in who has signed in.
func (a *API) admitAccount(c *gin.Context) (access.Visitor, error) {
	v, err := a.admit(c, access.Read)
	if err == nil && v.Role == "" {
		err = problem(http.StatusForbidden, "a token has no password", "sign in with the account")
	}
	return v, err
}

// admitAgent lets an agent speak for itself. A token that was not used before is
// that of this agent from now on.
func (a *API) admitAgent(c *gin.Context) (v access.Visitor, err error) {
	agent := c.Param("agent")
	if v, err = a.admit(c, access.Write); err != nil || v.Agent == agent || !isAgent.MatchString(agent) {
		return v, err
	}
	if agent == client.NoAgent && c.Request.Method == http.MethodGet {
		return v, nil // it asks whether the token is good, before there is an agent
	}
	ctx := c.Request.Context()
	bound := false
	err = access.ErrOther
	if v.Agent == "" && agent != client.NoAgent {
		bound, err = access.Bind(a.DB.WithContext(ctx), v.TokenID, agent)
	}
	if err != nil {
		return v, a.notThisAgent(ctx, err, agent)
	}
	if bound {
		a.noteFor(ctx, agentName(agent), "bind token", fmt.Sprintf("token %d, %s", v.TokenID, v.Name))
	}
	v.Agent = agent
	return v, nil
}

// notThisAgent tells why a token does not serve an agent.
func (a *API) notThisAgent(ctx context.Context, err error, agent string) error {
	switch {
	case errors.Is(err, access.ErrOther):
		p := problem(http.StatusForbidden, err.Error(), "let this one in with: oakbarrel hosts adopt "+agent)
		p.Join = true
		return p
	case errors.Is(err, access.ErrKnown):
		return problem(http.StatusForbidden, err.Error(), "an admin lets the new one in with: oakbarrel hosts replace "+agent)
	}
	return a.unavailable(ctx, err)
}

// admitFeed lets an agent move its feeds, and an import those of files.
func (a *API) admitFeed(c *gin.Context) (access.Visitor, error) {
	if c.Query("generation") == client.Imported {
		return a.admit(c, access.Import)
	}
	return a.admitAgent(c)
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
