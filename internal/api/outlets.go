package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/store"
)

// recorded writes down what came of something that was changed on gear, even
// when nobody waits for it any more, and has the device read again. It returns
// err.
func (s *Server) recorded(ctx context.Context, kind string, d *estate.Device, why *string, what string, err error) error {
	entry := store.Entry{Kind: kind, Who: whoIs(ctx).Account, Device: d.Key, Site: d.Site, Why: text(why), Text: what, Result: "done"}
	if err != nil {
		entry.Result, entry.Text = "failed", what+": "+err.Error()
	}
	s.journal(context.WithoutCancel(ctx), entry)
	if err == nil {
		s.Watcher.Again(ctx, d.Key)
	}
	return err
}

// SetOutlet implements the contract.
func (s *Server) SetOutlet(ctx context.Context, req contract.SetOutletRequestObject) (contract.SetOutletResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	o, ok := d.SourceAt(req.Port)
	if !ok {
		return nil, usage("%s has no outlet %q: plumb outlet list %s shows them", d.Key, req.Port, d.Key)
	}
	driver, err := garage.Outlets[gear.OutletSettings](s.Garage, d.Key)
	if err != nil {
		return nil, err
	}
	b, n := req.Body, o.Number
	end := estate.End{Device: d.Key, Port: req.Port}
	var said []string
	switch {
	case b.Name != nil:
		if strings.TrimSpace(*b.Name) != *b.Name {
			return nil, usage("a name neither begins nor ends with a space")
		}
		said, err = append(said, fmt.Sprintf("named %q", *b.Name)), driver.NameOutlet(ctx, n, *b.Name)
	case b.AfterLoss != nil:
		said, err = append(said, fmt.Sprintf("%s after a power loss", *b.AfterLoss)), driver.SetAfterLoss(ctx, n, gear.AfterLoss(*b.AfterLoss))
	case b.OnDelay != nil || b.OffDelay != nil:
		said, err = append(said, "delays set"), driver.SetDelays(ctx, n, secondsOf(b.OnDelay), secondsOf(b.OffDelay))
	default:
		return nil, usage("say what is to change: name, afterLoss, or a delay")
	}
	if err := s.recorded(ctx, store.EntryOutlet, d, b.Why, end.Words()+": "+strings.Join(said, ", "), err); err != nil {
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
	if _, err := garage.Card[gear.Answerer](s.Garage, d.Key); err != nil {
		return nil, err
	}
	out := contract.GetCard200JSONResponse{Entries: []contract.CardEntry{}}
	if _, err := garage.Card[gear.Restarter](s.Garage, d.Key); err == nil {
		out.Restarts = true
	}
	if clock, err := garage.Card[gear.Clock](s.Garage, d.Key); err == nil {
		asked := time.Now()
		at, err := clock.ReadClock(ctx)
		if err != nil {
			return nil, err
		}
		out.Clock, out.DriftSeconds = ptr(at.UTC()), ptr(at.Sub(asked.Truncate(time.Second)).Seconds())
	}
	log, err := garage.Card[gear.EventLog](s.Garage, d.Key)
	if err != nil {
		return out, nil // it keeps none
	}
	events, err := log.ReadEvents(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range slices.Backward(events.Events) {
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
func neighbourNames(ns []reading.Neighbour) map[string]string {
	out := map[string]string{}
	for _, n := range ns {
		if n.Name != "" {
			out[portNumber(n.Port)] = n.Name
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
