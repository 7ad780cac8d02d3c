package api

import (
	"context"
	"errors"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/readiness"
	"plumbbob/internal/drill"
)

// ListReadiness implements the contract.
func (s *Server) ListReadiness(ctx context.Context, req contract.ListReadinessRequestObject) (contract.ListReadinessResponseObject, error) {
	all, err := s.Drill.Ready(ctx, orZero(req.Params.Of))
	if err != nil {
		return nil, err
	}
	return contract.ListReadiness200JSONResponse(readinessView(all)), nil
}

// RunDrill implements the contract.
func (s *Server) RunDrill(ctx context.Context, req contract.RunDrillRequestObject) (contract.RunDrillResponseObject, error) {
	all, err := s.Drill.Drill(ctx, orZero(req.Body.Of), whoIs(ctx).Account)
	if errors.Is(err, drill.ErrDrilling) {
		return nil, usage("%s", err)
	}
	if err != nil {
		return nil, err
	}
	return contract.RunDrill200JSONResponse(readinessView(all)), nil
}

func readinessView(all []readiness.Device) contract.Readiness {
	out := contract.Readiness{Words: readiness.Words(all), Devices: []contract.ReadyDevice{}}
	for _, d := range all {
		v := contract.ReadyDevice{Device: string(d.Key), Site: string(d.Site), State: contract.ReadyDeviceState(d.State), Why: d.Why, Ways: []contract.ReadyWay{}, Single: keys(d.Single)}
		for _, w := range d.Ways {
			way := contract.ReadyWay{
				Means: contract.ReadyWayMeans(w.Means), By: []string{}, Works: w.Works, Why: w.Why, Weak: append([]string{}, w.Weak...), Needs: keys(w.Needs), Used: tried(w.Used), Drilled: tried(w.Proved),
			}
			for _, id := range w.By {
				way.By = append(way.By, id.String())
			}
			if !w.Heard.IsZero() {
				way.Heard = new(w.Heard.UTC())
			}
			v.Ways = append(v.Ways, way)
		}
		out.Devices = append(out.Devices, v)
	}
	return out
}

func tried(t *readiness.Test) *contract.WayTried {
	if t == nil {
		return nil
	}
	return &contract.WayTried{At: t.At.UTC(), Ok: t.OK, Why: t.Why, By: t.By}
}
