package api

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/gear"
	"plumbbob/internal/store"
)

// CallService implements the contract.
func (s *Server) CallService(ctx context.Context, req contract.CallServiceRequestObject) (contract.CallServiceResponseObject, error) {
	key := estate.Key(req.Key)
	p, is := s.Outbox.Patient(key)
	if !is {
		return nil, s.knows(key)
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
