package api

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/keep"
	"plumbbob/internal/store"
)

// comparedSpan is how far back loads are compared.
const comparedSpan = 24 * time.Hour

func (s *Server) site(key string) (*estate.Site, error) {
	if x := s.Keeper.Estate().Site(estate.Key(key)); x != nil {
		return x, nil
	}
	return nil, usage("there is no site %q: plumb board lists them", key)
}

// GetWiring implements the contract.
func (s *Server) GetWiring(ctx context.Context, req contract.GetWiringRequestObject) (contract.GetWiringResponseObject, error) {
	site, err := s.site(req.Site)
	if err != nil {
		return nil, err
	}
	out, err := s.wiring(ctx, site.Key)
	return contract.GetWiring200JSONResponse(out), err
}

func (s *Server) wiring(ctx context.Context, site estate.Key) (contract.Wiring, error) {
	out := contract.Wiring{Site: string(site), Compared: []contract.WiringFinding{}, Switched: []contract.WiringFinding{}, Outlets: []contract.WiringOutlet{}}
	e := s.Keeper.Estate()
	outlets, devices, err := s.loads(ctx, e, site)
	if err != nil && !errors.Is(err, store.ErrAway) {
		return out, err
	}
	out.Compared = findingViews(wiring.Compare(e, outlets, devices))
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, o := range d.Outlets {
			if d.Site != site || o.Unswitched || o.Kind == estate.USB || o.Kind == estate.Slot {
				continue
			}
			end := estate.End{Device: d.Key, Port: o.Port()}
			x := contract.WiringOutlet{Outlet: end.String(), Feeds: keys(e.Fed(end)), Guarded: []string{}}
			for _, l := range e.LosesPower(map[estate.End]bool{end: true}) {
				if l.Dark && e.Device(l.Device).Guarded {
					x.Guarded = append(x.Guarded, string(l.Device))
				}
			}
			out.Outlets = append(out.Outlets, x)
		}
	}
	switch c, err := s.Actor.WiringOf(ctx, site); {
	case err != nil && !errors.Is(err, store.ErrAway):
		return out, err
	case c != nil:
		out.Running, out.By, out.Began = !c.Over(), ptr(c.By.By()), &c.Began
		if c.Trying {
			at := len(c.Findings)
			out.Doing = ptr(fmt.Sprintf("%d of %d: %s", at+1, len(c.Outlets), c.Outlets[at].Place()))
		}
		if c.Over() {
			out.Ended = &c.Ended
		}
		out.Switched = findingViews(c.Findings)
	}
	return out, nil
}

// loads gathers what the outlets of a site carried, and what its controllers
// say that their hosts drew, in stretches of five minutes.
func (s *Server) loads(ctx context.Context, e *estate.Estate, site estate.Key) (outlets, devices []wiring.Load, err error) {
	to := time.Now()
	from := to.Add(-comparedSpan)
	past := func(k estate.Key, name string) ([]reading.Stretch, error) {
		list, err := s.Store.SeriesNamed(ctx, k, name)
		if err != nil || len(list) == 0 {
			return nil, err
		}
		found, _, _, err := s.Store.History(ctx, list, from, to, int(comparedSpan/store.Each5Min.Stretch), to, s.Retention)
		return found[list[0].ID], err
	}
	for i := range e.Devices {
		d := &e.Devices[i]
		if _, ok := d.Controller(); !ok || d.Site != site {
			continue
		}
		own, err := past(d.Key, keep.ChassisSeries)
		if err != nil {
			return nil, nil, err
		}
		if len(own) == 0 {
			continue
		}
		devices = append(devices, wiring.Load{Device: d.Key, Past: own})
		for _, end := range e.FeedsOf(d.Key) {
			name, owner := keep.OutletSeries(end.Port), end.Device
			if len(d.Power) == 1 {
				name, owner = keep.DrawSeries, d.Key // one feed: what it carries is kept as the draw
			}
			list, err := past(owner, name)
			if err != nil {
				return nil, nil, err
			}
			outlets = append(outlets, wiring.Load{Outlet: end, Past: list})
		}
	}
	return outlets, devices, nil
}

func findingViews(list []wiring.Finding) []contract.WiringFinding {
	out := []contract.WiringFinding{}
	for _, f := range list {
		out = append(out, contract.WiringFinding{
			Outlet: f.Outlet.String(), Expected: keys(f.Expected), Found: keys(f.Found), Verdict: contract.WiringFindingVerdict(f.Verdict), Text: f.Text,
		})
	}
	return out
}

// CheckWiring implements the contract.
func (s *Server) CheckWiring(ctx context.Context, req contract.CheckWiringRequestObject) (contract.CheckWiringResponseObject, error) {
	site, err := s.site(req.Site)
	if err != nil {
		return nil, err
	}
	e := s.Keeper.Estate()
	consent := operation.Consent{Why: req.Body.Why}
	if strings.TrimSpace(consent.Why) == "" {
		return nil, usage("a wiring check switches things off: say why")
	}
	var outlets []estate.End
	for _, text := range req.Body.Outlets {
		end, err := estate.ParseEnd(text)
		if err != nil {
			return nil, usage("%s", err)
		}
		d := e.Device(end.Device)
		if d == nil || d.Site != site.Key {
			return nil, usage("%s is not at %s", end.Device, site.Key)
		}
		if _, ok := d.SourceAt(end.Port); !ok {
			return nil, usage("%s has no %s", end.Device, end.Words())
		}
		outlets = append(outlets, end)
	}
	if req.Body.Names != nil {
		for _, n := range *req.Body.Names {
			consent.Names = append(consent.Names, estate.Key(n))
		}
	}
	if err := s.Actor.CheckWiring(ctx, site.Key, outlets, consent, s.asker(ctx)); errors.Is(err, act.ErrWiringRuns) {
		return nil, errors.Join(err, store.ErrConflict)
	} else if err != nil {
		return nil, err
	}
	out, err := s.wiring(ctx, site.Key)
	return contract.CheckWiring202JSONResponse(out), err
}

// StopWiring implements the contract.
func (s *Server) StopWiring(ctx context.Context, req contract.StopWiringRequestObject) (contract.StopWiringResponseObject, error) {
	site, err := s.site(req.Site)
	if err != nil {
		return nil, err
	}
	return contract.StopWiring204Response{}, s.Actor.StopWiring(ctx, site.Key, whoIs(ctx).Account)
}
