package service

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"time"

	"golang.org/x/sync/errgroup"

	"plumbbob/internal/gate"
)

// Gate is where people come in by SSH, and the fingerprint of its host key; empty where
// nobody does.
func (s *Service) Gate() (address, print string) { return s.gate.Address() }

// ScreenGate is where viewers of screens come in; empty where none do.
func (s *Service) ScreenGate() string { return s.gate.ScreenAddress() }

// What holds at the local ports of the gate, unless something else is said.
const (
	Rings    = 2
	GateIdle = 10 * time.Minute // a call costs, and nobody looks after a terminal that is left
)

// gateLines are the local ports at which people come in.
func (s *Service) gateLines() (all []gate.Line, err error) {
	for _, name := range s.o.GateAt {
		modem, err := s.ports.IsModem(name)
		if err != nil {
			return nil, fmt.Errorf("--gate-at: %w", err)
		}
		await := func(ctx context.Context) (io.ReadWriteCloser, error) { return s.ports.Terminal(ctx, name) }
		if modem {
			await = func(ctx context.Context) (io.ReadWriteCloser, error) {
				return s.ports.Await(ctx, name, cmp.Or(s.o.Rings, Rings))
			}
		}
		all = append(all, gate.Line{Name: name, Await: await, Idle: cmp.Or(s.o.GateIdle, GateIdle)})
	}
	return all, nil
}

// runGate lets people in by every door but the API.
func (s *Service) runGate(ctx context.Context, tasks *errgroup.Group) {
	tasks.Go(func() error { return s.gate.Run(ctx) })
	for _, l := range s.lines {
		tasks.Go(func() error { return s.gate.Attend(ctx, l) })
	}
}
