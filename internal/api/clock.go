package api

import (
	"cmp"
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/orders"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"slices"
	"time"

	"github.com/labstack/echo/v5"
)

// hook begins a routine for whoever has its token, as a bearer. It takes arguments: {"device": "…"}.
func (s *Server) hook(c *echo.Context) error {
	no := func(status int, why string) error { return c.JSON(status, map[string]string{"error": why}) }
	name, given := c.Param("name"), bearer(c.Request())
	ctx := c.Request().Context()
	r := s.Orders.Find(name)
	if r == nil || !s.hasToken(r, given) {
		return no(http.StatusUnauthorized, "nothing begins here with that token")
	}
	var with map[string]string
	if err := json.NewDecoder(io.LimitReader(c.Request().Body, longestAnswer)).Decode(&with); err != nil && !errors.Is(err, io.EOF) {
		return no(http.StatusBadRequest, `write {"NAME": "VALUE"}, or nothing`)
	}
	if o := s.Orders.Order(name); o == nil || o.Row.Off {
		return no(http.StatusConflict, "the routine is off: only people begin it")
	}
	var wrong *operation.UsageError
	id, err := s.Orders.Begin(ctx, name, with, operation.Asker{}, "a webhook, with its token")
	switch {
	case errors.As(err, &wrong):
		return no(http.StatusBadRequest, err.Error())
	case errors.Is(err, orders.ErrRunning):
		return no(http.StatusConflict, err.Error())
	case err != nil:
		return no(http.StatusServiceUnavailable, "it cannot be begun now: try again in a moment")
	}
	return c.JSON(http.StatusAccepted, map[string]string{"run": id})
}

// hasToken says whether a token is one with which a routine is begun.
func (s *Server) hasToken(r *routine.Routine, given string) bool {
	is := false
	for _, t := range r.When {
		if t.Secret == "" {
			continue
		}
		v, err := s.Keyring.Secret(t.Secret) // from memory: nobody here has logged in
		if err == nil && v.Kind == secret.Token && len(v.Password) >= LeastToken && subtle.ConstantTimeCompare([]byte(v.Password), []byte(given)) == 1 {
			is = true
		}
	}
	return is
}

// ListClock implements the contract.
func (s *Server) ListClock(ctx context.Context, req contract.ListClockRequestObject) (contract.ListClockResponseObject, error) {
	now := nowUTC()
	until := now.AddDate(0, 0, cmp.Or(orZero(req.Params.Days), 7))
	out := contract.ListClock200JSONResponse{}
	for _, o := range s.Orders.Orders() {
		if o.Routine != nil && !o.Row.Off {
			out = append(out, s.clockTimes(o.Routine, now, until, mostTimes)...)
		}
	}
	groups, err := s.Actor.Groups(ctx, store.GroupFilter{Unended: true, Limit: mostRuns})
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		if g.At.After(now) && g.At.Before(until) {
			out = append(out, contract.ClockTime{At: g.At.UTC(), What: g.Title, Kind: contract.ClockTimeKindGroup, Name: g.ID, Zone: s.Keeper.Estate().Zone(g.Members[0].Device).String()})
		}
	}
	sortClock(out)
	return out[:min(len(out), mostClock)], nil
}

// How many times are listed: of one routine, and of all.
const (
	mostTimes = 50
	mostClock = 500
)

// clockTimes lists when the clock begins a routine.
func (s *Server) clockTimes(r *routine.Routine, from, until time.Time, most int) (out []contract.ClockTime) {
	zone := s.Orders.Around().Zone(r.Site)
	if zone == nil {
		return nil
	}
	for _, t := range r.When {
		if t.At == nil {
			continue
		}
		at := t.At.Next(from)
		for n := 0; n < most && !at.IsZero() && at.Before(until); n++ {
			out = append(out, contract.ClockTime{At: at.UTC(), What: cmp.Or(r.Title, t.At.Text), Kind: contract.ClockTimeKindRoutine, Name: r.Name, Zone: zone.String()})
			at = t.At.Next(at)
		}
	}
	return out
}

func sortClock(all []contract.ClockTime) {
	slices.SortFunc(all, func(a, b contract.ClockTime) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Name, b.Name)) })
}
