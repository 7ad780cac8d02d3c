package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
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
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	rc := http.NewResponseController(w)
	_ = rc.SetWriteDeadline(time.Time{})
	if _, err := fmt.Fprint(w, "retry: 1000\n\n"); err != nil || rc.Flush() != nil {
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
		if err != nil || rc.Flush() != nil {
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

// DevicesChanged tells everybody how these devices look now.
func (s *Server) DevicesChanged(keys []estate.Key) {
	g := s.glanceOf(s.Keeper.Snapshot())
	for _, k := range keys {
		if d := g.e.Device(k); d != nil {
			s.publish(stream.Device, string(k), g.summary(d))
		}
	}
	s.publish(stream.Trouble, "all", g.troubles())
}

// HealthChanged tells everybody what ails the service now.
func (s *Server) HealthChanged() { s.publish(stream.Service, "all", ailmentViews(s.Health.List())) }

// OperationChanged tells everybody how an operation stands now.
func (s *Server) OperationChanged(o *operation.Operation) {
	s.publish(stream.Operation, o.ID, operationView(o, s.Keeper.Estate().Zone(o.Device)))
}

// GroupChanged tells everybody how a group is.
func (s *Server) GroupChanged(g *group.Group) { s.publish(stream.Group, g.ID, groupView(g)) }

// JournalWritten tells everybody that the journal has a new entry.
func (s *Server) JournalWritten() {
	s.publish(stream.Journal, "newest", struct{}{})
	s.Written()
}
