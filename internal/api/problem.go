package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"

	"github.com/labstack/echo/v5"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/gear"
	"plumbbob/internal/lease"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
)

type notPermitted struct{ needs, has operation.Role }

func (e *notPermitted) Error() string {
	return fmt.Sprintf("this needs the role %s; yours is %s", e.needs, e.has)
}

// missing says what was not found, and how to find it.
type missing struct{ what string }

func (e *missing) Error() string { return e.what }

// handleError answers with a problem document.
func (s *Server) handleError(c *echo.Context, err error) {
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	p := problemOf(err)
	if p.Status == http.StatusInternalServerError {
		s.Log.Error("a request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "because", err)
	}
	var wait *people.WaitError
	switch {
	case errors.As(err, &wait):
		c.Response().Header().Set("Retry-After", fmt.Sprint(int(math.Ceil(wait.Wait.Seconds()))))
	case p.Status == http.StatusServiceUnavailable:
		c.Response().Header().Set("Retry-After", "5")
	}
	c.Response().Header().Set("Content-Type", "application/problem+json")
	c.Response().WriteHeader(p.Status)
	_ = json.NewEncoder(c.Response()).Encode(p) // the connection may be gone
}

// problemOf sorts every error into what people can do about it.
func problemOf(err error) contract.Problem {
	problem := func(status int, kind contract.ProblemKind, title, detail string) contract.Problem {
		return contract.Problem{Type: "about:blank", Status: status, Kind: kind, Title: title, Detail: &detail}
	}
	var (
		wrong    *invalidError
		long     *tooLongError
		usage    *operation.UsageError
		said     *incident.UsageError
		late     *incident.StateError
		notOurs  *notOursError
		refused  *act.RefusedError
		changed  *act.ChangedError
		faults   *estatefile.Faults
		role     *notPermitted
		tries    *people.WaitError
		nobody   *people.NoAccountError
		closed   *people.AwayError
		gone     *missing
		no       *seat.NoError
		box      *gear.Error
		watching *lease.Error
		http_    *echo.HTTPError
		status   echo.HTTPStatusCoder
	)
	switch {
	case errors.Is(err, people.ErrNotIn):
		return problem(http.StatusUnauthorized, contract.NotLoggedIn, "Not logged in", "log in first: plumb login URL")
	case errors.Is(err, people.ErrWrong):
		return problem(http.StatusUnauthorized, contract.WrongPassword, "Wrong account or password", "wrong account or password: check both; the first password was printed when the service first started")
	case errors.As(err, &tries):
		return problem(http.StatusTooManyRequests, contract.TooManyTries, "Too many tries", err.Error())
	case errors.As(err, &role):
		return problem(http.StatusForbidden, contract.NotPermitted, "Not permitted", err.Error())
	case errors.As(err, &wrong):
		p := problem(http.StatusUnprocessableEntity, contract.Usage, "That is not understood", wrong.Error())
		p.At = optional(wrong.at)
		return p
	case errors.As(err, &long):
		return problem(http.StatusRequestEntityTooLarge, contract.Usage, "Too long", err.Error())
	case errors.As(err, &usage):
		return problem(http.StatusUnprocessableEntity, contract.Usage, "That cannot be done", usage.Text)
	case errors.As(err, &said):
		return problem(http.StatusUnprocessableEntity, contract.Usage, "That cannot be done", said.Text)
	case errors.As(err, &refused):
		return refusal(refused, problem)
	case errors.As(err, &changed):
		p := problem(http.StatusConflict, contract.PreviewChanged, "The preview has changed", err.Error())
		if changed.Now != nil {
			p.Preview = ptr(previewView(changed.Now))
		}
		return p
	case errors.As(err, &faults):
		p := problem(http.StatusUnprocessableEntity, contract.FaultyFile, "The estate file has faults", faults.Error())
		p.Faults = &[]contract.Fault{}
		for _, f := range faults.List {
			*p.Faults = append(*p.Faults, contract.Fault{Line: f.Line, Text: f.Text})
		}
		return p
	case errors.As(err, &box):
		return gearProblem(box, problem)
	case errors.As(err, &nobody):
		return problem(http.StatusNotFound, contract.NotFound, "Not found", err.Error())
	case errors.As(err, &gone):
		return problem(http.StatusNotFound, contract.NotFound, "Not found", gone.what)
	case errors.Is(err, store.ErrNotFound):
		return problem(http.StatusNotFound, contract.NotFound, "Not found", "there is no such thing on record")
	case errors.As(err, &no):
		return problem(http.StatusConflict, contract.Conflict, "Not now", no.Text)
	case errors.Is(err, store.ErrConflict), errors.Is(err, act.ErrEnded), errors.Is(err, act.ErrNotReady), errors.As(err, &watching), errors.As(err, &late):
		return problem(http.StatusConflict, contract.Conflict, "Not now", err.Error())
	case errors.As(err, &closed):
		return problem(http.StatusServiceUnavailable, contract.DatabaseAway, "The database is away", err.Error())
	case errors.Is(err, store.ErrAway):
		return problem(http.StatusServiceUnavailable, contract.DatabaseAway, "The database is away", "the database does not answer; watching and switching go on, this must wait: try again in a moment")
	case errors.As(err, &notOurs):
		return problem(http.StatusMisdirectedRequest, contract.Usage, "Not the name of this service", err.Error())
	case errors.Is(err, act.ErrStopping), errors.Is(err, act.ErrSafe):
		return problem(http.StatusServiceUnavailable, contract.Stopping, "Stopping", err.Error())
	case errors.Is(err, context.Canceled):
		return problem(http.StatusServiceUnavailable, contract.Stopping, "Stopping", "the service is stopping, or you have gone")
	case errors.As(err, &http_):
		return problem(http_.Code, contract.Usage, http.StatusText(http_.Code), http_.Message)
	case errors.As(err, &status):
		return problem(status.StatusCode(), contract.Usage, http.StatusText(status.StatusCode()), err.Error())
	}
	return problem(http.StatusInternalServerError, contract.Internal, "Something went wrong", "something went wrong here, and the service's log says what")
}

// gearProblem says whether gear is away, or there and unwilling.
func gearProblem(e *gear.Error, problem func(int, contract.ProblemKind, string, string) contract.Problem) contract.Problem {
	switch {
	case e.Kind == gear.Unreachable:
		return problem(http.StatusBadGateway, contract.GearUnreachable, "The gear cannot be reached", e.Text)
	case e.Kind == gear.Unsupported && e.Outcome == sending.NotSent:
		return problem(http.StatusUnprocessableEntity, contract.Usage, "That cannot be done", e.Text)
	}
	return problem(http.StatusBadGateway, contract.GearRefused, "The gear refuses", e.Text)
}

// refusal names the interlocks. Gear that cannot be reached is a kind of its own.
func refusal(e *act.RefusedError, problem func(int, contract.ProblemKind, string, string) contract.Problem) contract.Problem {
	p := problem(http.StatusConflict, contract.Refused, "Refused by an interlock", e.Error())
	for _, l := range e.Interlocks {
		if l.Name == operation.LockOutOfReach {
			p = problem(http.StatusBadGateway, contract.GearUnreachable, "The gear cannot be reached", l.Reason)
		}
	}
	p.Interlocks = ptr(interlockViews(e.Interlocks))
	if e.Preview != nil { // of a group there are many
		p.Preview = ptr(previewView(e.Preview))
	}
	return p
}

func ptr[T any](v T) *T { return &v }
