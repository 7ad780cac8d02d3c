package api

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/asking"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// GetBoard implements the contract.
func (s *Server) GetBoard(ctx context.Context, _ contract.GetBoardRequestObject) (contract.GetBoardResponseObject, error) {
	text, err := s.boards.get(ctx, s.drawBoard)
	if err != nil {
		return nil, err
	}
	return boardText{text, gateOf(ctx).zipped}, nil
}

// drawBoard writes the board as it is now.
func (s *Server) drawBoard() ([]byte, error) {
	event := s.Hub.Newest() // before looking, so that nothing falls in between
	out := s.glanceOf(s.Keeper.Snapshot()).board(event)
	out.Service = ailmentViews(s.Health.List())
	return json.Marshal(out)
}

func ailmentViews(list []health.Ailment) []contract.ServiceAilment {
	out := make([]contract.ServiceAilment, len(list))
	for i, a := range list {
		out[i] = contract.ServiceAilment{Name: a.Name, Text: a.Text, Grave: a.Grave, Since: a.Since}
	}
	return out
}

func (s *Server) noDevice(key string) error {
	return &missing{fmt.Sprintf("there is no device %q: plumb board lists them", key)}
}

// knows refuses a device that is neither in the estate nor, as the caller has found, on
// record: a mistyped name must not read as an all-clear.
func (s *Server) knows(k estate.Key) error {
	if k == "" || s.Keeper.Estate().Device(k) != nil {
		return nil
	}
	return s.noDevice(string(k))
}

const operationsOnDevice = 10

// GetDevice implements the contract.
func (s *Server) GetDevice(ctx context.Context, req contract.GetDeviceRequestObject) (contract.GetDeviceResponseObject, error) {
	out, err := s.device(ctx, estate.Key(req.Key))
	if err != nil {
		return nil, err
	}
	return contract.GetDevice200JSONResponse(*out), nil
}

// lookFor is how long a look waits for those who do not answer.
const lookFor = 12 * time.Second

// LookAtDevice implements the contract.
func (s *Server) LookAtDevice(ctx context.Context, req contract.LookAtDeviceRequestObject) (contract.LookAtDeviceResponseObject, error) {
	key := estate.Key(req.Key)
	ask := asking.Look(s.Keeper.Estate(), key)
	if len(ask) == 0 {
		return nil, s.noDevice(req.Key)
	}
	within, cancel := context.WithTimeout(ctx, lookFor)
	defer cancel()
	if err := s.Watcher.Look(within, ask); err != nil && ctx.Err() != nil {
		return nil, err // who asked has gone; that some have not answered yet is no failure
	}
	s.Keeper.JudgeNow()
	out, err := s.device(ctx, key)
	if err != nil {
		return nil, err
	}
	return contract.LookAtDevice200JSONResponse{Asked: keys(ask), Device: *out}, nil
}

// device is all that is known of a device.
func (s *Server) device(ctx context.Context, key estate.Key) (*contract.Device, error) {
	var out *contract.Device
	s.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) {
		if d := e.Device(key); d != nil {
			out = ptr(s.glance(e, ev, vs, now).device(d))
		}
	})
	if out == nil {
		return nil, s.noDevice(string(key))
	}
	if i := s.Incidents.Of(key); i != nil {
		out.Incident = ptr(s.incidentView(i))
	}
	ops, err := s.Actor.List(ctx, store.OperationFilter{Device: key, Limit: operationsOnDevice})
	if err != nil {
		// What is known of the device is worth more than its history.
		s.Log.Warn("a device is shown without its operations", "device", key, "because", err)
	}
	for _, o := range ops {
		out.Operations = append(out.Operations, s.operationNow(ctx, o))
	}
	return out, nil
}
