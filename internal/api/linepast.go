package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/screen"
	"plumbbob/internal/store"
)

// What serial lines have said, as it is kept, and what gear has logged.

// pastSpan is how far back is looked when nobody says.
const (
	pastSpan   = time.Hour
	eventsSpan = 7 * 24 * time.Hour
)

// past checks who asks for what a line has said, brings the newest to the store, and
// returns the time that is meant.
func (s *Server) past(ctx context.Context, key string, since, until *time.Time) (k estate.Key, from, to time.Time, err error) {
	k = estate.Key(key)
	if err := s.knows(k); err != nil {
		return k, from, to, err
	}
	if err := seat.MaySit(operation.Role(whoIs(ctx).Role)); err != nil {
		return k, from, to, usage("%s", err)
	}
	to = time.Now()
	if until != nil {
		to = *until
	}
	from = to.Add(-pastSpan)
	if since != nil {
		from = *since
	}
	if !from.Before(to) {
		return k, from, to, usage("since is %s, and that is not before %s", from.Format(time.RFC3339), to.Format(time.RFC3339))
	}
	return k, from, to, s.Broker.Save(ctx, k)
}

// within are the sayings of a part in a time. What cannot be read is said in their place.
func within(kept store.LinePart, from, to time.Time) []serial.Saying {
	p, err := serial.DecodePart(kept.Content)
	if err != nil {
		return []serial.Saying{{At: kept.Began, Text: fmt.Appendf(nil, "\r\n[%s]\r\n", err)}}
	}
	return slices.DeleteFunc(p.Said, func(x serial.Saying) bool { return x.At.Before(from) || x.At.After(to) })
}

// GetLinePast implements the contract.
func (s *Server) GetLinePast(ctx context.Context, req contract.GetLinePastRequestObject) (contract.GetLinePastResponseObject, error) {
	k, from, to, err := s.past(ctx, req.Key, req.Params.Since, req.Params.Until)
	if err != nil {
		return nil, err
	}
	find, limit := strings.ToLower(orZero(req.Params.Find)), cmp.Or(orZero(req.Params.Limit), 500)
	out := contract.GetLinePast200JSONResponse{Lines: []contract.LineOfText{}}
	err = s.Store.LineParts(ctx, k, from, to, true, func(kept store.LinePart) bool {
		lines := serial.Lines(within(kept, from, to))
		for i := len(lines) - 1; i >= 0; i-- {
			l := lines[i]
			if find != "" && !strings.Contains(strings.ToLower(l.Text), find) {
				continue
			}
			if out.More = len(out.Lines) == limit; out.More {
				return false
			}
			out.Lines = append(out.Lines, contract.LineOfText{At: l.At, Text: l.Text})
		}
		out.Oldest = timeOf(kept.Began)
		return true
	})
	slices.Reverse(out.Lines)
	return out, err
}

// GetLineRecording implements the contract. It is written while it is read.
func (s *Server) GetLineRecording(ctx context.Context, req contract.GetLineRecordingRequestObject) (contract.GetLineRecordingResponseObject, error) {
	k, from, to, err := s.past(ctx, req.Key, req.Params.Since, req.Params.Until)
	if err != nil {
		return nil, err
	}
	r, w := io.Pipe()
	go func() {
		var cast *serial.Cast
		var failed error
		err := s.Store.LineParts(ctx, k, from, to, false, func(kept store.LinePart) bool {
			for _, said := range within(kept, from, to) {
				if cast == nil {
					cast, failed = serial.NewCast(w, string(k), said.At)
				}
				if failed == nil {
					failed = cast.Write(said)
				}
			}
			return failed == nil
		})
		if err == nil && failed == nil && cast == nil {
			_, failed = serial.NewCast(w, string(k), from) // nothing was said
		}
		_ = w.CloseWithError(errors.Join(err, failed))
	}()
	return contract.GetLineRecording200ApplicationXAsciicastResponse{Body: r}, nil
}

// ListGearEvents implements the contract.
func (s *Server) ListGearEvents(ctx context.Context, req contract.ListGearEventsRequestObject) (contract.ListGearEventsResponseObject, error) {
	p := req.Params
	since, limit := time.Now().Add(-eventsSpan), cmp.Or(orZero(p.Limit), 200)
	if p.Since != nil {
		since = *p.Since
	}
	e := s.Keeper.Estate()
	if p.Site != nil && e.Site(estate.Key(*p.Site)) == nil {
		return nil, usage("there is no site %q", *p.Site)
	}
	only := estate.Key(orZero(p.Device))
	if only != "" {
		if err := s.knows(only); err != nil {
			return nil, err
		}
	}
	least := reading.Level(orZero(p.Level))
	out := []contract.EstateEvent{}
	find := strings.ToLower(orZero(p.Find))
	add := func(x contract.EstateEvent) {
		if find != "" && !strings.Contains(strings.ToLower(x.Device+" "+x.What+" "+x.Text), find) {
			return
		}
		if (p.Site == nil || x.Site == *p.Site) && !least.Worse(reading.Level(x.Level)) {
			out = append(out, x)
		}
	}
	for i := range e.Devices {
		d := &e.Devices[i]
		if only != "" && d.Key != only {
			continue
		}
		for _, ev := range s.Keeper.Inside(d.Key).Events.Events {
			if ev.At != nil && !ev.At.Before(since) {
				add(contract.EstateEvent{Device: string(d.Key), Site: string(d.Site), At: *ev.At, From: "log", What: cmp.Or(ev.Sensor, ev.Kind), Level: contract.Level(ev.Level), Text: ev.Text})
			}
		}
	}
	said, err := s.Store.LineEvents(ctx, only, since, 1000)
	if err != nil {
		return nil, err
	}
	sees := seat.May(operation.Role(whoIs(ctx).Role), seat.See)
	for _, x := range said {
		if !sees {
			x.Text = ""
		}
		from := contract.EstateEventFrom("line")
		if x.Screen {
			from = "screen"
		}
		add(contract.EstateEvent{Device: string(x.Device), Site: string(x.Site), At: x.At, From: from, What: x.Name, Level: contract.Level(x.Level), Text: x.Text})
	}
	messages, err := s.Store.Messages(ctx, store.MessageFilter{Device: only, Site: estate.Key(orZero(p.Site)), Since: since, Least: least, Find: find, Limit: limit})
	if err != nil {
		return nil, err
	}
	for _, x := range messages {
		add(contract.EstateEvent{Device: string(x.Device), Site: string(x.Site), At: x.At, From: "syslog", What: x.App, Level: contract.Level(x.Level), Text: x.Text})
	}
	slices.SortStableFunc(out, func(a, b contract.EstateEvent) int { return b.At.Compare(a.At) })
	return contract.ListGearEvents200JSONResponse(out[:min(len(out), limit)]), nil
}

// screenSpan is how far back the last that a line has said may be.
const screenSpan = 14 * 24 * time.Hour

// GetLineScreen implements the contract.
func (s *Server) GetLineScreen(ctx context.Context, req contract.GetLineScreenRequestObject) (contract.GetLineScreenResponseObject, error) {
	until := time.Now()
	if req.Params.At != nil {
		until = *req.Params.At
	}
	since := until.Add(-screenSpan)
	k, from, to, err := s.past(ctx, req.Key, &since, &until)
	if err != nil {
		return nil, err
	}
	out := contract.GetLineScreen200JSONResponse{Rows: []string{}, Marked: []contract.MarkedCells{}}
	var said []byte
	err = s.Store.LineParts(ctx, k, from, to, true, func(kept store.LinePart) bool {
		var text []byte
		for _, x := range within(kept, from, to) {
			text = append(text, x.Text...)
			if out.At == nil || x.At.After(*out.At) {
				out.At = timeOf(x.At)
			}
		}
		said = append(text, said...)
		return len(said) < screen.Enough
	})
	if err != nil || len(said) == 0 {
		return out, err
	}
	shown, err := screen.Of(said)
	if err != nil {
		return nil, err
	}
	out.Rows, out.Row, out.Column = shown.Rows, shown.Row, shown.Column
	for _, m := range shown.Marked {
		out.Marked = append(out.Marked, contract.MarkedCells{Row: m.Row, From: m.From, To: m.To})
	}
	return out, nil
}
