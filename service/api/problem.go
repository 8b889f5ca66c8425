package api

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/go-sql-driver/mysql"

	"oakbarrel/client"
	"oakbarrel/service/ingest"
	"oakbarrel/service/shelf"
)

// problem is an answer that says what is wrong, and how to mend it.
func problem(status int, detail, mend string) *client.Problem {
	return &client.Problem{Title: http.StatusText(status), Status: status, Detail: detail, Mend: mend}
}

// failedAt is the problem that what was sent makes the service fail. Sent again it
// most likely does so again.
func failedAt(detail string) *client.Problem {
	p := problem(http.StatusInternalServerError, detail, "")
	p.Fault = true
	return p
}

// withHeader adds a header to a problem.
func withHeader(p *client.Problem, name, value string) error {
	return huma.ErrorWithHeaders(p, http.Header{name: {value}})
}

// unavailable is the problem that the database cannot do what it should now.
func (a *API) unavailable(ctx context.Context, err error) error {
	why, mend := "the database does not answer", "the service goes on by itself once it does"
	var refusal *mysql.MySQLError
	if errors.As(err, &refusal) {
		why, mend = refusalText(refusal.Number), "the service goes on by itself once it can; its log has the database's words"
	}
	var away *shelf.Away
	switch {
	case errors.As(err, &away):
		why, mend = "shelf "+away.Shelf+" is away", "the service goes on by itself once it answers; oakbarrel shelf list tells why it does not"
	case errors.Is(err, ingest.ErrMoved):
		why, mend = err.Error(), "the agent sends it again by itself"
	}
	if ctx.Err() == nil { // else nobody listens any more
		a.Log.Error(why, "why", err)
	}
	return withHeader(problem(http.StatusServiceUnavailable, why, mend), "Retry-After", "1")
}

// refusalText tells what a number of MariaDB's errors means. Its words may hold
// what is stored, and go into the service's own log only.
func refusalText(number uint16) string {
	switch number {
	case 3, 28, 1021, 1026, 1114: // cannot write, no space, disk full, write failed, table full
		return "the database cannot write; its disk may be full"
	case 1036, 1290, 1792, 1836: // the table, the server, the transaction, the mode
		return "the database is read-only"
	case 1047:
		return "the database is a node of a cluster that is away from the others"
	}
	return "the database refuses what the service asks"
}

// answer writes a problem where no typed handler does.
func answer(c *gin.Context, err error) {
	var headers huma.HeadersError
	if errors.As(err, &headers) {
		for name, values := range headers.GetHeaders() {
			c.Writer.Header()[name] = values
		}
	}
	var p *client.Problem
	if !errors.As(err, &p) {
		p = problem(http.StatusInternalServerError, "the service has failed at this request; its log tells more", "")
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(p.Status, p)
}

// What the typed handlers find wrong with a request is told like all else. It
// names the parameter, never its value, which may be a secret.
func init() {
	huma.NewErrorWithContext = func(_ huma.Context, status int, message string, errs ...error) huma.StatusError {
		if status == http.StatusInternalServerError {
			return problem(status, "the service has failed at this request; its log tells more", "")
		}
		if status == http.StatusUnprocessableEntity {
			status = http.StatusBadRequest
		}
		var details []string
		for _, err := range errs {
			var d *huma.ErrorDetail
			if errors.As(err, &d) && d.Location != "" {
				details = append(details, d.Location+": "+d.Message)
			} else if d != nil {
				details = append(details, d.Message)
			}
		}
		if len(details) > 0 {
			message = strings.Join(details, "; ")
		}
		return problem(status, message, "the interface is described at "+openAPIPath+".json")
	}
}
