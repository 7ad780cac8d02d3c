package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/calendar"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/store"
)

func windowView(w operation.Window) contract.Window {
	out := contract.Window{ID: w.ID, Site: string(w.Site), By: w.By, Why: w.Why, From: w.From.UTC(), Until: w.Until.UTC()}
	if w.Device != "" {
		out.Device = ptr(string(w.Device))
	}
	if w.Tag != "" {
		out.Tag = &w.Tag
	}
	if w.Every != "" {
		out.Every = &w.Every
	}
	return out
}

// ListWindows implements the contract.
func (s *Server) ListWindows(ctx context.Context, _ contract.ListWindowsRequestObject) (contract.ListWindowsResponseObject, error) {
	ws, err := s.Store.Windows(ctx, nowUTC())
	out := contract.ListWindows200JSONResponse{}
	for _, w := range ws {
		out = append(out, windowView(w))
	}
	return out, err
}

// The longest that something can belong to somebody: a window that was forgotten
// must not be in the way for ever.
const maxWindow = 14 * 24 * time.Hour

// OpenWindow implements the contract.
func (s *Server) OpenWindow(ctx context.Context, req contract.OpenWindowRequestObject) (contract.OpenWindowResponseObject, error) {
	b, e, now := req.Body, s.Keeper.Estate(), nowUTC()
	w := operation.Window{By: whoIs(ctx).Account, Why: text(b.Why), From: now, Until: b.Until.UTC()}
	if b.From != nil {
		w.From = b.From.UTC()
	}
	tag, tagged := strings.CutPrefix(b.On, "tag:")
	switch d := e.Device(estate.Key(b.On)); {
	case tagged && slices.ContainsFunc(e.Devices, func(d estate.Device) bool { return slices.Contains(d.Tags, tag) }):
		w.Tag = tag
	case tagged:
		return nil, usage("no device is tagged %q", tag)
	case d != nil:
		w.Site, w.Device = d.Site, d.Key
	case e.Site(estate.Key(b.On)) != nil:
		w.Site = estate.Key(b.On)
	default:
		return nil, usage("there is no device and no site %q: plumb board lists them", b.On)
	}
	switch {
	case !w.Until.After(now):
		return nil, usage("a window ends later than now, not at %s", w.Until.Format(time.RFC3339))
	case !w.Until.After(w.From):
		return nil, usage("a window ends after it begins")
	case w.Until.Sub(w.From) > maxWindow:
		return nil, usage("a window lasts two weeks at the most")
	case len(w.Why) > maxWhy:
		return nil, usage("the reason is longer than %d bytes", maxWhy)
	}
	words := fmt.Sprintf("Works on %s until %s", w.What(), w.Until.In(s.zoneAt(w.Site)).Format("2 Jan 15:04"))
	if every := orZero(b.Every); every != "" {
		w.Every, w.Lasts, w.Zone = every, w.Until.Sub(w.From), s.zoneAt(w.Site).String()
		at, err := w.At(now, s.zoneAt(w.Site))
		if err != nil {
			return nil, usage("every: %s", err)
		}
		w, words = at, fmt.Sprintf("Works on %s %s, for %s", w.What(), every, plain.Span(w.Lasts))
	}
	entry := store.Entry{At: now, Site: w.Site, Device: w.Device, Who: w.By, Kind: store.EntryWindow, Why: w.Why, Result: "done", Text: words}
	var err error
	if w.ID, err = s.Store.OpenWindow(ctx, w, entry); err != nil {
		return nil, err
	}
	s.Actor.Forget()
	s.written()
	return contract.OpenWindow201JSONResponse(windowView(w)), nil
}

func (s *Server) zoneAt(site estate.Key) *time.Location {
	if x := s.Keeper.Estate().Site(site); x != nil {
		return x.Zone
	}
	e := s.Keeper.Estate()
	return e.Zone(e.Standpoint)
}

// CloseWindow implements the contract.
func (s *Server) CloseWindow(ctx context.Context, req contract.CloseWindowRequestObject) (contract.CloseWindowResponseObject, error) {
	now := nowUTC()
	open, err := s.Store.Windows(ctx, now)
	if err != nil {
		return nil, err
	}
	for _, w := range open {
		if w.ID != req.ID {
			continue
		}
		if w.By != whoIs(ctx).Account {
			if err := atLeast(ctx, operation.Steward); err != nil {
				return nil, err
			}
		}
		entry := store.Entry{At: now, Site: w.Site, Device: w.Device, Who: whoIs(ctx).Account, Kind: store.EntryWindow, Result: "done", Text: fmt.Sprintf("Ended the window of %s", w.By)}
		if err := s.Store.CloseWindow(ctx, w.ID, now, entry); err != nil && !errors.Is(err, store.ErrConflict) {
			return nil, err
		}
		s.Actor.Forget()
		s.written()
		return contract.CloseWindow204Response{}, nil
	}
	return nil, &missing{fmt.Sprintf("no window %d is open: plumb window list shows them", req.ID)}
}

// ListCalendars implements the contract.
func (s *Server) ListCalendars(ctx context.Context, _ contract.ListCalendarsRequestObject) (contract.ListCalendarsResponseObject, error) {
	cs, err := s.Store.Calendars(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListCalendars200JSONResponse{}
	e := s.Keeper.Estate()
	for _, c := range cs {
		v := contract.Calendar{Name: c.Name, SetAt: c.SetAt.UTC(), SetBy: c.SetBy, Devices: []string{}}
		zone := time.UTC
		for i := range e.Devices {
			if d := &e.Devices[i]; d.Use.Calendar == c.Name {
				v.Devices, zone = append(v.Devices, string(d.Key)), e.Zone(d.Key)
			}
		}
		if parsed, err := calendar.Parse(c.Text, zone); err == nil {
			if text, until, busy := parsed.Busy(time.Now()); busy {
				v.Now = ptr(fmt.Sprintf("%s, until %s", text, until.In(zone).Format("15:04")))
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// SetCalendar implements the contract.
func (s *Server) SetCalendar(ctx context.Context, req contract.SetCalendarRequestObject) (contract.SetCalendarResponseObject, error) {
	if !estate.ValidKey(req.Name) {
		return nil, usage("%q cannot be a name: use lower-case letters, digits and hyphens", req.Name)
	}
	if _, err := calendar.Parse(req.Body.Text, time.UTC); err != nil {
		return nil, usage("calendar %s: %s", req.Name, err)
	}
	who := whoIs(ctx).Account
	if err := s.Store.SetCalendar(ctx, store.CalendarText{Name: req.Name, Text: req.Body.Text, SetAt: nowUTC(), SetBy: who}, entry(ctx, store.EntryCalendar, "Calendar %s set", req.Name)); err != nil {
		return nil, err
	}
	s.Actor.Forget()
	s.written()
	return contract.SetCalendar204Response{}, nil
}

// RemoveCalendar implements the contract.
func (s *Server) RemoveCalendar(ctx context.Context, req contract.RemoveCalendarRequestObject) (contract.RemoveCalendarResponseObject, error) {
	if err := s.Store.RemoveCalendar(ctx, req.Name, entry(ctx, store.EntryCalendar, "Calendar %s removed", req.Name)); errors.Is(err, store.ErrConflict) {
		return nil, &missing{fmt.Sprintf("there is no calendar %q: plumb calendar list shows them", req.Name)}
	} else if err != nil {
		return nil, err
	}
	s.Actor.Forget()
	s.written()
	return contract.RemoveCalendar204Response{}, nil
}
