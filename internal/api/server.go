// Package api is the edge of the service: it binds requests, asks the rooms
// behind it, and translates what they answer. The contract is openapi.yaml.
//
//	server.go      wiring: routes, middleware, headers
//	auth.go        log-in, sessions, roles
//	problem.go     every error as a problem document
//	board.go       the board, a device, its draw
//	operations.go  previews, operations, the journal
//	incidents.go   what is wrong, and what people say of it
//	estates.go     the estate and the secrets
//	events.go      the stream of changes
//	view*.go       from our values to those of the contract
//	contract/      generated: types, server interface, client
package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/broker"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/drill"
	"plumbbob/internal/health"
	"plumbbob/internal/incidents"
	"plumbbob/internal/keep"
	"plumbbob/internal/orders"
	"plumbbob/internal/people"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/stream"
	"plumbbob/internal/tell"
	"plumbbob/internal/watch"
)

// Parts are the rooms behind the edge.
type Parts struct {
	Store   *store.Store
	Keeper  *keep.Keeper
	Actor   *act.Actor
	Keyring Keyring
	Watcher *watch.Watcher
	Sealer  *secret.Sealer

	Incidents *incidents.Room
	Outbox    *tell.Outbox
	Orders    *orders.Room
	Drill     *drill.Room

	People *people.Desk
	Broker *broker.Room
	Bus    *bus.Bus

	Hub     *stream.Hub
	Log     *slog.Logger
	Console fs.FS // the built console
	Secure  bool  // served over TLS

	Health    *health.Book
	Retention store.Retention
	SetEstate func(context.Context, *estate.Estate)

	MayConnect func(host string) error // why gear may not be at a host
	HasModem   func(name string) error // why there is no modem of that name at this machine
	Acts       func() bool             // this service, of several, is the one that acts
	Metrics    Metrics

	Hosts   []string       // names that the service answers to, beside localhost
	Proxies []netip.Prefix // whose word counts for where a request comes from
}

// Keyring is told of secrets and profiles that have changed.
type Keyring interface {
	SetSecret(name string, v secret.Value)
	RemoveSecret(name string)
	Secret(name string) (secret.Value, error)
	Reopen(profile string)
}

// Server answers the API and serves the console.
type Server struct {
	Parts
	gates  gates
	boards boards
}

// New returns a server.
func New(p Parts) *Server {
	s := &Server{Parts: p}
	s.listen()
	return s
}

const basePath = "/api/v1"

// Handler returns all routes. One that is not decided about is an error.
func (s *Server) Handler() (http.Handler, error) {
	gates, err := openGates()
	if err != nil {
		return nil, err
	}
	s.gates = gates
	e := echo.New()
	e.Logger = s.Log
	e.HTTPErrorHandler = s.handleError
	e.IPExtractor = s.from()
	e.Use(s.asked, middleware.Recover(), s.headers, s.answersTo, squeeze)
	e.GET("/healthz", s.health)
	e.GET("/readyz", s.ready)
	e.GET("/metrics", s.metrics())
	e.POST("/answers/:channel", s.answer)
	e.POST("/orders/:name", s.hook)
	g := e.Group(basePath, gates.find, s.authenticate, allow, validate, s.boards.afresh)
	g.GET("/events", s.events)
	g.GET("/devices/:key/serial", s.serial)
	g.GET("/devices/:key/screen", s.screen)
	g.GET("/openapi.yaml", specification)
	contract.RegisterHandlers(g, contract.NewStrictHandler(s, nil))
	e.GET("/*", s.console)
	e.HEAD("/*", s.console)
	e.RouteNotFound("/*", gates.nowhere)
	if err := gates.decided(e.Router().Routes()); err != nil {
		return nil, err
	}
	// Browsers may change things only from our own pages.
	own := http.NewCrossOriginProtection()
	own.SetDenyHandler(http.HandlerFunc(foreign))
	return own.Handler(e), nil
}

// foreign answers a browser that asks for a page of somebody else's.
func foreign(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusForbidden)
	detail := "a page elsewhere may not change anything here: open the console itself"
	_ = json.NewEncoder(w).Encode(contract.Problem{Type: "about:blank", Status: http.StatusForbidden, Kind: contract.NotPermitted, Title: "From another page", Detail: &detail})
}

// asked notes every request, for who looks for what goes wrong (--log debug).
func (s *Server) asked(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r, began := c.Request(), time.Now()
		err := next(c)
		s.Log.Debug("asked", "method", r.Method, "path", r.URL.Path, "from", c.RealIP(), "who", whoIs(c.Request().Context()).Account, "took", time.Since(began), "error", err)
		return err
	}
}

func (s *Server) health(c *echo.Context) error {
	if err := s.Store.Ping(c.Request().Context()); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database is away; watching goes on\n")
	}
	grave := 0
	for _, a := range s.Health.List() {
		if a.Grave {
			grave++
		}
	}
	if grave > 0 { // what it is, is for those who may log in
		return c.String(http.StatusServiceUnavailable, fmt.Sprintf("not well: the board says what %d %s of the service\n", grave, map[bool]string{true: "thing ails", false: "things ail"}[grave == 1]))
	}
	return c.String(http.StatusOK, "well\n")
}

const contentPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; font-src 'self'; " +
	"connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

func (s *Server) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", contentPolicy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if s.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, basePath) {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// pages are the first parts of the addresses that the console has pages at.
var pages = []string{"", "devices", "power", "incidents", "journal", "estate", "people", "events", "telling", "orders", "readiness"}

// console serves the built console. An address that is neither a file nor a page shows
// people the console's own page for that, and tells programs that there is nothing.
func (s *Server) console(c *echo.Context) error {
	name := strings.TrimPrefix(c.Request().URL.Path, "/")
	first, _, _ := strings.Cut(name, "/")
	if first == "api" {
		return s.gates.nowhere(c)
	}
	out := c.Response()
	if f, err := fs.Stat(s.Console, name); name == "" || err != nil || f.IsDir() {
		if !slices.Contains(pages, first) {
			out = &notFound{out}
		}
		name = "index.html"
	}
	h := c.Response().Header()
	if strings.HasPrefix(name, "assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with them
	} else {
		h.Set("Cache-Control", "no-cache")
	}
	if _, err := fs.Stat(s.Console, name); err != nil {
		return c.String(http.StatusNotFound, "The console has not been built: run make build.\n")
	}
	http.ServeFileFS(out, c.Request(), s.Console, name)
	return nil
}

// notFound serves what there is with the status that it is not what was asked for.
type notFound struct{ http.ResponseWriter }

func (w *notFound) WriteHeader(int) { w.ResponseWriter.WriteHeader(http.StatusNotFound) }
