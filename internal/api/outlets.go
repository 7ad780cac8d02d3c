package api

import (
	"context"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// change has gear set up differently, and returns once that is read back.
func (s *Server) change(ctx context.Context, k estate.Key, want act.Setting, why *string) (act.Planned, error) {
	if len(text(why)) > maxWhy {
		return act.Planned{}, usage("a reason has at most %d characters", maxWhy)
	}
	return s.Actor.ChangeSetting(ctx, k, want, text(why), s.asker(ctx))
}

// SetOutlet implements the contract.
func (s *Server) SetOutlet(ctx context.Context, req contract.SetOutletRequestObject) (contract.SetOutletResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	b := req.Body
	want := act.OutletSetting{Port: req.Port, Name: b.Name, AfterLoss: (*reading.AfterLoss)(b.AfterLoss), OnDelay: secondsOf(b.OnDelay), OffDelay: secondsOf(b.OffDelay)}
	if _, err := s.change(ctx, d.Key, act.Setting{Outlet: &want}, b.Why); err != nil {
		return nil, err
	}
	return contract.SetOutlet204Response{}, nil
}

func secondsOf(n *int) *time.Duration {
	if n == nil {
		return nil
	}
	return ptr(time.Duration(*n) * time.Second)
}

// GetCard implements the contract.
func (s *Server) GetCard(ctx context.Context, req contract.GetCardRequestObject) (contract.GetCardResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	card, err := s.Watcher.Card(ctx, d.Key)
	if err != nil {
		return nil, err
	}
	out := contract.GetCard200JSONResponse{Restarts: card.Restarts, Entries: []contract.CardEntry{}}
	if card.Clock != nil {
		out.Clock, out.DriftSeconds = ptr(card.Clock.UTC()), ptr(card.Clock.Sub(card.Asked.Truncate(time.Second)).Seconds())
	}
	for _, e := range slices.Backward(card.Events) {
		out.Entries = append(out.Entries, contract.CardEntry{At: e.At, Text: e.Text})
	}
	return out, nil
}

// GetPorts implements the contract.
func (s *Server) GetPorts(_ context.Context, req contract.GetPortsRequestObject) (contract.GetPortsResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	in := s.Keeper.Inside(d.Key)
	e := s.Keeper.Estate()
	out := contract.GetPorts200JSONResponse{At: timeOf(in.NeighboursAt), Ports: []contract.SwitchPort{}, Mismatches: append([]string{}, estate.CompareNeighbours(e, d.Key, neighbourNames(in.Neighbours))...)}
	for _, n := range in.Neighbours {
		p := contract.SwitchPort{Port: n.Port, Alias: optional(n.Alias), Up: n.Up, Neighbour: optional(n.Name), Remote: optional(n.Remote)}
		if e.Device(estate.Key(n.Name)) != nil {
			p.Device = &n.Name
		}
		out.Ports = append(out.Ports, p)
	}
	return out, nil
}

// neighbourNames is who is on which port, by the name that the port has in the estate.
func neighbourNames(ns []reading.Neighbour) map[string][]string {
	out := map[string][]string{}
	for _, n := range ns {
		if n.Name != "" {
			port := portNumber(n.Port)
			out[port] = append(out[port], n.Name)
		}
	}
	return out
}

// portNumber is what distinguishes a port: "port 12" → "12".
func portNumber(s string) string {
	i := strings.LastIndexFunc(s, func(r rune) bool { return r < '0' || r > '9' })
	if i == len(s)-1 {
		return s
	}
	return s[i+1:]
}
