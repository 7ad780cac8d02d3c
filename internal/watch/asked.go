package watch

import (
	"context"
	"slices"
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

// A look waits for what it has asked.
type look struct {
	left map[subject]bool
	done chan struct{}
}

// Look asks some devices at once for all that shows how they are, and waits until each has
// answered, or its time is over.
func (w *Watcher) Look(ctx context.Context, devices []estate.Key) error {
	ctx, cancel := context.WithTimeout(ctx, askedWithin)
	defer cancel()
	k := &look{left: map[subject]bool{}, done: make(chan struct{})}
	w.wish(ctx, func(l *loop) {
		now := time.Now()
		for _, key := range devices {
			l.each(key, func(s subject) {
				l.plan.Soon(s, now)
				k.left[s] = true
			})
		}
		if d := l.estate.Device(devices[0]); d != nil {
			l.askPorts(d.Key, now)
		}
		l.looks = append(l.looks, k)
		l.looked(subject{})
	})
	select {
	case <-k.done:
		return nil
	case <-ctx.Done():
		err := context.Cause(ctx)
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		w.wish(ctx, func(l *loop) { l.looks = slices.DeleteFunc(l.looks, func(x *look) bool { return x == k }) })
		return err
	}
}

// looked takes a subject that has been asked off what the looks wait for.
func (l *loop) looked(s subject) {
	l.looks = slices.DeleteFunc(l.looks, func(k *look) bool {
		delete(k.left, s)
		if len(k.left) > 0 {
			return false
		}
		close(k.done)
		return true
	})
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
