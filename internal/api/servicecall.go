package api

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/store"
)

// CallService implements the contract.
func (s *Server) CallService(ctx context.Context, req contract.CallServiceRequestObject) (contract.CallServiceResponseObject, error) {
	key := estate.Key(req.Key)
	p, err := s.patient(key)
	if err != nil {
		return nil, err
	}
	m := telling.ServiceCall(fmt.Sprintf("service.%s.%d", key, time.Now().UnixMilli()), p, orZero(req.Body.Note), nowUTC())
	out := contract.CallService200JSONResponse{Subject: m.Subject, Text: m.Text, Files: []contract.TextFile{}}
	for _, f := range m.Files {
		out.Files = append(out.Files, contract.TextFile{Name: f.Name, Text: f.Text})
	}
	channel, to := orZero(req.Body.Channel), orZero(req.Body.To)
	if channel == "" && to == "" {
		return out, nil
	}
	says, err := s.Outbox.Send(ctx, channel, to, m)
	e := entry(ctx, store.EntryTelling, "Service call for %s to %s: %s", key, to, m.Subject)
	e.Device = key
	if err != nil {
		e.Result = "failed"
	}
	s.Keeper.Note(e)
	if err != nil {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.Unclear, Text: fmt.Sprintf("the service call was not sent: %s", err)}
	}
	out.Sent, out.Says = true, &says
	return out, nil
}

// patient is what is known of a device that is to be seen to.
func (s *Server) patient(key estate.Key) (telling.Patient, error) {
	if err := s.knows(key); err != nil {
		return telling.Patient{}, err
	}
	e, in, v := s.Keeper.Estate(), s.Keeper.Inside(key), s.Keeper.Verdict(key)
	d := e.Device(key)
	p := telling.Patient{Device: string(key), Title: d.Title, Site: string(d.Site), Place: d.Place, Sheet: in.Sheet, Sensors: in.Sensors, Events: in.Events}
	if site := e.Site(d.Site); site != nil && site.Name != "" {
		p.Site = site.Name
	}
	for _, r := range v.Reasons {
		if r.Stance == verdict.For && v.State != verdict.Steady {
			p.Wrong = append(p.Wrong, r.Text.String())
		}
	}
	return p, nil
}
