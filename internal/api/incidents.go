package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
)

func (s *Server) incidentView(i *incident.Incident) contract.Incident {
	out := contract.Incident{
		ID: i.ID, Device: string(i.Device), Site: string(i.Site), Zone: s.zoneAt(i.Site).String(), Kind: i.Kind, Text: i.Text,
		Opened: i.Opened.UTC(), Again: i.Again, Explains: keys(i.Explains), Tried: append([]string{}, i.Tried...), Notes: []contract.Remark{},
	}
	if !i.Open() {
		out.Ended, out.Ending = ptr(i.Ended.UTC()), &i.Ending
	}
	if i.Seen != nil {
		out.Seen = ptr(remarkView(*i.Seen))
	}
	if i.ShelvedAt(time.Now()) {
		out.Shelved = ptr(remarkView(i.Shelved.Remark))
		out.Shelved.Until = ptr(i.Shelved.Until.UTC())
	}
	for _, n := range i.Notes {
		out.Notes = append(out.Notes, remarkView(n))
	}
	return out
}

func remarkView(r incident.Remark) contract.Remark {
	return contract.Remark{By: r.By, At: r.At.UTC(), Text: r.Text}
}

// ListIncidents implements the contract.
func (s *Server) ListIncidents(ctx context.Context, req contract.ListIncidentsRequestObject) (contract.ListIncidentsResponseObject, error) {
	p, out := req.Params, contract.ListIncidents200JSONResponse{Body: []contract.Incident{}}
	all := p.All != nil && *p.All
	if !all && p.Device == nil && p.Text == nil { // without the database, too
		open := s.Incidents.Open()
		for n := len(open) - 1; n >= 0; n-- {
			out.Body = append(out.Body, s.incidentView(open[n]))
		}
		return out, nil
	}
	f := store.IncidentFilter{Open: !all, Device: estate.Key(text(p.Device)), Text: text(p.Text), Before: text(p.Before), Limit: limitOf(p.Limit)}
	list, err := s.Store.Incidents(ctx, f)
	if err != nil {
		return nil, err
	}
	for _, i := range list {
		out.Body = append(out.Body, s.incidentView(i))
	}
	if len(list) == 0 && f.Before == "" {
		err = s.knows(f.Device)
	}
	out.Headers.Link = nextPage(ctx, list, f.Limit, func(i *incident.Incident) string { return i.ID })
	if len(list) == 0 && f.Before != "" {
		_, err = s.Incidents.Find(ctx, f.Before)
	}
	return out, noIncident(f.Before, err)
}

// GetIncident implements the contract.
func (s *Server) GetIncident(ctx context.Context, req contract.GetIncidentRequestObject) (contract.GetIncidentResponseObject, error) {
	i, err := s.Incidents.Find(ctx, req.ID)
	if err != nil {
		return nil, noIncident(req.ID, err)
	}
	return contract.GetIncident200JSONResponse(s.incidentView(i)), nil
}

// How many incidents are looked through for similar ones, and how many of those are shown.
const (
	mostPast    = 1000
	mostSimilar = 5
)

// ListSimilarIncidents implements the contract.
func (s *Server) ListSimilarIncidents(ctx context.Context, req contract.ListSimilarIncidentsRequestObject) (contract.ListSimilarIncidentsResponseObject, error) {
	i, err := s.Incidents.Find(ctx, req.ID)
	if err != nil {
		return nil, noIncident(req.ID, err)
	}
	past, err := s.Store.Incidents(ctx, store.IncidentFilter{Limit: mostPast})
	if err != nil {
		return nil, err
	}
	e := s.Keeper.Estate()
	out := contract.ListSimilarIncidents200JSONResponse{}
	for _, x := range i.Similar(past, e, mostSimilar) {
		v := contract.SimilarIncident{ID: x.ID, Device: string(x.Device), Opened: x.Opened.UTC(), Ended: x.Ended.UTC(), Ending: x.Ending, Notes: []string{}}
		for _, n := range x.Notes {
			v.Notes = append(v.Notes, n.By+": "+n.Text)
		}
		if o := s.helped(ctx, x); o != nil {
			v.Helped, v.By = o.Outcome(e.Zone(o.Device)), o.By
		}
		out = append(out, v)
	}
	return out, nil
}

// helped is the operation that was done last before an incident ended, or nil.
func (s *Server) helped(ctx context.Context, i *incident.Incident) (last *operation.Operation) {
	for _, id := range i.Tried {
		o, err := s.Actor.Find(ctx, id)
		if err != nil || o.State != operation.Done || o.Asked.After(i.Ended) {
			continue // it is no longer kept, or was in vain
		}
		if last == nil || o.Asked.After(last.Asked) {
			last = o
		}
	}
	return last
}

func noIncident(id string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &missing{fmt.Sprintf("there is no incident %q: plumb incident list --all shows them", id)}
	}
	return err
}

// SayOfIncident implements the contract.
func (s *Server) SayOfIncident(ctx context.Context, req contract.SayOfIncidentRequestObject) (contract.SayOfIncidentResponseObject, error) {
	b, by := req.Body, whoIs(ctx).Account
	i, err := s.Incidents.Say(ctx, req.ID, by, func(i *incident.Incident, now time.Time) (string, error) {
		switch b.What {
		case contract.IncidentSayingWhatSeen:
			return i.Acknowledge(by, text(b.Text), now)
		case contract.IncidentSayingWhatNote:
			return i.Note(by, text(b.Text), now)
		case contract.IncidentSayingWhatUnshelve:
			return i.Shelve(by, text(b.Text), now, now)
		case contract.IncidentSayingWhatShelve:
			if b.Until == nil || !b.Until.After(now) {
				return "", usage("until when? Give a time that is still to come")
			}
			return i.Shelve(by, text(b.Text), b.Until.UTC(), now)
		}
		return "", usage("%q is nothing that can be said of an incident: it is seen, note, shelve or unshelve", b.What)
	})
	if err != nil {
		return nil, noIncident(req.ID, err)
	}
	return contract.SayOfIncident200JSONResponse(s.incidentView(i)), nil
}

// attended says who sees to what is wrong with a device, and what was noted last: who
// is about to act should know.
func (s *Server) attended(k estate.Key) (out []contract.PreviewLine) {
	i := s.Incidents.Of(k)
	if i == nil {
		return nil
	}
	add := func(format string, args ...any) {
		out = append(out, contract.PreviewLine{Kind: contract.PreviewLineKindNote, Text: fmt.Sprintf(format, args...)})
	}
	zone := s.Keeper.Estate().Zone(k)
	if i.Seen != nil {
		add("%s sees to it, since %s", i.Seen.By, i.Seen.At.In(zone).Format("2 Jan 15:04"))
	}
	if n := len(i.Notes); n > 0 {
		add("%s has noted: %s", i.Notes[n-1].By, i.Notes[n-1].Text)
	}
	return out
}
