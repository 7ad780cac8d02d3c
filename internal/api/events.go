package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/stream"
)

const (
	heartbeat = 10 * time.Second
	gather    = 150 * time.Millisecond // so that a burst goes out as one
)

// events streams changes as server-sent events. A client goes on behind the
// event that it saw last, by Last-Event-ID or by ?after=.
func (s *Server) events(c *echo.Context) error {
	ctx := c.Request().Context()
	after := c.Request().Header.Get("Last-Event-ID")
	if after == "" {
		after = c.QueryParam("after")
	}
	reader := s.Hub.From(after)
	if only := c.QueryParam("devices"); only != "" {
		reader.Wants = func(kind, key string) bool { return kind != stream.Device || key == only }
	}
	c.Response().Header().Set("Content-Type", "text/event-stream")
	c.Response().Header().Set("X-Accel-Buffering", "no")
	rc := http.NewResponseController(c.Response())
	_ = rc.SetWriteDeadline(time.Time{})
	w, flush := squeezed(c, rc)
	if _, err := fmt.Fprint(w, "retry: 1000\n\n"); err != nil || flush() != nil {
		return nil
	}
	for {
		wait, cancel := context.WithTimeout(ctx, heartbeat)
		events, err := reader.Next(wait)
		cancel()
		if ctx.Err() != nil || s.ended(ctx) {
			return nil
		}
		if errors.Is(err, context.DeadlineExceeded) {
			_, err = fmt.Fprint(w, ": still here\n\n")
		}
		for _, e := range events {
			if _, err = fmt.Fprintf(w, "id: %s\nevent: %s\ndata: %s\n\n", e.ID, e.Kind, e.Data); err != nil {
				break
			}
		}
		if err != nil || flush() != nil {
			return nil // the client has gone
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(gather):
		}
	}
}

func (s *Server) publish(kind, key string, data any) {
	if err := s.Hub.Publish(kind, key, data); err != nil {
		s.Log.Error("a change could not be told", "because", err)
	}
}

// listen has all that changes told to everybody.
func (s *Server) listen() {
	b := s.Bus
	b.Judged.Listen(s.devicesChanged)
	b.Seated.Listen(func(k estate.Key) { s.devicesChanged([]estate.Key{k}) })
	b.Ailing.Listen(func(bus.Ailing) { s.publish(stream.Service, "all", ailmentViews(s.Health.List())) })
	b.Operations.Listen(func(o *operation.Operation) {
		s.publish(stream.Operation, o.ID, operationView(o, s.Keeper.Estate().Zone(o.Device)))
	})
	b.Groups.Listen(func(g *group.Group) { s.publish(stream.Group, g.ID, groupView(g)) })
	b.Incidents.Listen(func(i *incident.Incident) {
		s.publish(stream.Incident, i.ID, s.incidentView(i))
		s.devicesChanged(nil) // what is wrong is shown with who sees to it
	})
	b.Accounts.Listen(func(bus.AccountChanged) { s.publish(stream.Account, "all", struct{}{}) })
	b.Journal.Listen(func(bus.NewEntry) { s.publish(stream.Journal, "newest", struct{}{}) })
}

// devicesChanged tells how these devices look now.
func (s *Server) devicesChanged(keys []estate.Key) {
	g := s.glanceOf(s.Keeper.Snapshot())
	for _, k := range keys {
		if d := g.e.Device(k); d != nil {
			// When it last answered, and the line of its draw, come along with what has changed.
			if err := s.Hub.PublishMembers(stream.Device, string(k), g.summary(d), "lastAnswer", "recent"); err != nil {
				s.Log.Error("a change could not be told", "because", err)
			}
		}
	}
	s.publish(stream.Trouble, "all", g.troubles())
}

// written tells that the journal has a new entry.
func (s *Server) written() { s.Bus.Journal.Publish(bus.NewEntry{}) }
