package watch

import (
	"context"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
)

// What people ask of gear beside what is asked all the time. It changes nothing.

// askedWithin is how long an answer to a person may take: the settings of a
// controller are some forty questions to a slow box.
const askedWithin = 40 * time.Second

// Settings reads how a management controller is set up.
func (w *Watcher) Settings(ctx context.Context, k estate.Key) (gear.Settings, error) {
	d, err := garage.Controller[gear.Driver](w.from.Garage, k)
	if err != nil {
		return gear.Settings{}, err
	}
	c, err := garage.Controller[gear.Configured](w.from.Garage, k)
	if err != nil {
		return gear.Settings{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, askedWithin)
	defer cancel()
	var s gear.Settings
	err = gear.Safely(func() error {
		s, err = c.ReadSettings(ctx)
		return err
	})
	s.Changeable = gear.Changeable(d)
	return s, err
}

// A Card is what the card of a PDU, a UPS or a switch says of itself.
type Card struct {
	Restarts bool       // it can be started anew
	Clock    *time.Time // nil where it has none
	Asked    time.Time  // when the clock was read
	Events   []reading.Event
}

// Card reads the clock and the log of a card.
func (w *Watcher) Card(ctx context.Context, k estate.Key) (out Card, err error) {
	err = gear.Safely(func() error {
		out, err = w.card(ctx, k)
		return err
	})
	return out, err
}

func (w *Watcher) card(ctx context.Context, k estate.Key) (Card, error) {
	var out Card
	if _, err := garage.Card[gear.Answerer](w.from.Garage, k); err != nil {
		return out, err
	}
	ctx, cancel := context.WithTimeout(ctx, askedWithin)
	defer cancel()
	if _, err := garage.Card[gear.Restarter](w.from.Garage, k); err == nil {
		out.Restarts = true
	}
	if clock, err := garage.Card[gear.Clock](w.from.Garage, k); err == nil {
		out.Asked = time.Now()
		at, err := clock.ReadClock(ctx)
		if err != nil {
			return out, err
		}
		out.Clock = &at
	}
	log, err := garage.Card[gear.EventLog](w.from.Garage, k)
	if err != nil {
		return out, nil // it keeps none
	}
	events, err := log.ReadEvents(ctx)
	out.Events = events.Events
	return out, err
}
