package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

const sessionCookie = "oakbarrel_session"

// signIn gives a session to who knows a password.
func (a *API) signIn(c *gin.Context) {
	var given struct{ Name, Password string }
	if err := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, 4096)).Decode(&given); err != nil {
		problem(c, http.StatusBadRequest, "a sign-in is JSON with name and password", "")
		return
	}
	key, account, err := a.Door.SignIn(a.DB.WithContext(c.Request.Context()), given.Name, given.Password)
	switch {
	case errors.Is(err, access.ErrWrong):
		problem(c, http.StatusUnauthorized, err.Error(), "")
	case errors.Is(err, access.ErrTooOften):
		c.Header("Retry-After", "60")
		problem(c, http.StatusTooManyRequests, err.Error(), "")
	case err != nil:
		a.unavailable(c, err)
	default:
		http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Value: key, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: c.Request.TLS != nil})
		c.JSON(http.StatusOK, gin.H{"name": account.Name, "role": account.Role})
	}
}

// who tells who has signed in.
func (a *API) who(c *gin.Context) {
	account, ok := a.session(c)
	if ok {
		c.JSON(http.StatusOK, gin.H{"name": account.Name, "role": account.Role})
	} else if !c.IsAborted() {
		problem(c, http.StatusUnauthorized, "nobody has signed in", "")
	}
}

func (a *API) signOut(c *gin.Context) {
	if key, err := c.Cookie(sessionCookie); err == nil {
		if err := access.SignOut(a.DB.WithContext(c.Request.Context()), key); err != nil {
			a.unavailable(c, err)
			return
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	c.Status(http.StatusNoContent)
}

// session returns the account that has signed in; it has answered where the context is aborted.
func (a *API) session(c *gin.Context) (account model.Account, ok bool) {
	key, err := c.Cookie(sessionCookie)
	if err != nil {
		return account, false
	}
	account, err = access.Session(a.DB.WithContext(c.Request.Context()), key)
	if err != nil && !errors.Is(err, access.ErrUnknown) {
		a.unavailable(c, err)
	}
	return account, err == nil
}

// sameOrigin refuses what another site makes a browser send. Programs send no Origin.
func sameOrigin(c *gin.Context) {
	origin := c.GetHeader("Origin")
	if origin == "" || c.Request.Method == http.MethodGet {
		return
	}
	if u, err := url.Parse(origin); err != nil || u.Host != c.Request.Host {
		problem(c, http.StatusForbidden, "the request comes from another site", "")
	}
}
