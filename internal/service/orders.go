package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/broker"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/readiness"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/sequence"
	"plumbbob/internal/orders"
	"plumbbob/internal/screen"
	"plumbbob/internal/store"
)

// newOrders puts together what carries standing orders out: what is no operation is done by the
// rooms that do it for people.
func (s *Service) newOrders(b *bus.Bus) *orders.Room {
	drill := func(ctx context.Context, what, by string) (string, error) {
		all, err := s.drill.Drill(ctx, what, by)
		return readiness.Words(all), err
	}
	return orders.New(orders.Parts{
		Store: s.Store, Keeper: s.keeper, Actor: s.actor, Log: s.o.Log, Health: s.health, Lease: s.lease, Bus: b, Acts: s.acts,
		Incidents: func() []*incident.Incident { return s.incidents.Open() },
		AtLine:    func(k estate.Key) []string { return s.broker.Words(k, "") },
		LookAt:    func(ctx context.Context, devices []estate.Key) error { return s.watcher.Look(ctx, devices) },
		Say:       s.outbox.Say, Picture: s.keepPicture, Line: s.waitAtLine, Screen: s.screenSays, Play: s.playAtScreen, Drill: drill,
	})
}

// keepPicture keeps a picture of what the screen of a device shows now.
func (s *Service) keepPicture(ctx context.Context, k estate.Key, why string) error {
	p, err := s.broker.Glimpse(ctx, k, pictureSettles, true)
	if err != nil {
		return err
	}
	png, err := screen.PNG(p)
	if err != nil {
		return err
	}
	x := store.Picture{Device: k, At: time.Now().UTC(), Why: why, Content: png}
	if d := s.keeper.Estate().Device(k); d != nil {
		x.Site = d.Site
	}
	return s.Store.SavePicture(ctx, x)
}

// screenSays is the text that the screen of a device shows now.
func (s *Service) screenSays(ctx context.Context, k estate.Key) (string, error) {
	p, err := s.broker.Glimpse(ctx, k, pictureSettles, true)
	if err != nil {
		return "", err
	}
	rows, is := screenText(p)
	if !is {
		return "", fmt.Errorf("the screen of %s shows a picture, and no text that can be read", k)
	}
	return strings.Join(rows, "\n"), nil
}

// standing is how a standing order sits down somewhere.
var standing = seat.Seat{Who: "standing order", Role: operation.Operator, Brief: true}

// mostSaid is how much of what a line says from now on is kept to look for a text in.
const mostSaid = 64 << 10

// escapes are what terminals are told beside text.
var escapes = regexp.MustCompile("\x1b(?:\\[[0-9;?]*[ -/]*[@-~]|[@-Z\\\\-_]|\\][^\x07\x1b]*(?:\x07|\x1b\\\\))")

// waitAtLine waits until the serial line of a device says something, from now on.
func (s *Service) waitAtLine(ctx context.Context, k estate.Key, match func(string) bool) error {
	who := standing
	who.Watch = true
	at, err := s.broker.Sit(k, broker.Coming{Seat: who, New: true})
	if err != nil {
		return err
	}
	defer at.Leave()
	said := ""
	for {
		n, err := at.Next(ctx)
		if err != nil {
			return err
		}
		said += string(n.Said)
		if match(escapes.ReplaceAllString(said, "")) {
			return nil
		}
		said = said[max(0, len(said)-mostSaid):]
	}
}

// How long keys are held, and how long it is between them.
var orderPace = broker.Pace{Held: 15 * time.Millisecond, Gap: 15 * time.Millisecond}

// playAtScreen plays a sequence at the screen of a device, as whoever sits there alone.
func (s *Service) playAtScreen(ctx context.Context, k estate.Key, name string) error {
	all, err := s.Store.Sequences(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(q store.SequenceText) bool { return q.Name == name })
	if at < 0 {
		return fmt.Errorf("there is no sequence %q: plumb sequence list shows them", name)
	}
	moves, err := sequence.ReadForAScreen(all[at].Text, all[at].Layout)
	if err != nil {
		return fmt.Errorf("sequence %s: %w", name, err)
	}
	v, err := s.broker.View(k, standing)
	if err != nil {
		return err
	}
	defer v.Leave()
	if err := v.Up(ctx, screenWithin); err != nil {
		return err
	}
	err = v.Play(ctx, moves, all[at].Layout, orderPace, func(string) {})
	v.LetGo()
	if err != nil && ctx.Err() != nil {
		err = errors.Join(context.Cause(ctx), err)
	}
	v.Record("Played the sequence %s at the screen of %s", name, k)
	return err
}

// screenWithin is how long a screen may take until there is a picture.
const screenWithin = 20 * time.Second
