package watch

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
)

// How long a question to gear may take with all its tries, in time-outs of one.
const (
	stateQuestions   = 3
	stateTrips       = 24 // the same in round trips, where those are long: half of them for others in between
	sensorTrips      = 2000
	setUpTrips       = 400
	sensorQuestions  = 40 // a sweep of a slow controller, with its records at the first time
	setUpWithin      = 2 * time.Minute
	nothingToBeAsked = "has nothing that could be asked"
)

// askState asks an endpoint for what tells how things are: outlets or chassis.
func (w *Watcher) askState(ctx context.Context, id estate.EndpointID, ep estate.Endpoint) bool {
	o := Observation{Endpoint: &id}
	return w.ask(ctx, o, bound{stateQuestions * ep.Timeout, stateTrips}, func(ctx context.Context, d gear.Driver, o *Observation) error {
		asked := false
		if g, ok := gear.As[gear.Outlets](d); ok {
			asked = true
			got, err := g.ReadOutlets(ctx)
			if err != nil {
				return err
			}
			o.Outlets = &got
		}
		if g, ok := gear.As[gear.Chassis](d); ok {
			asked = true
			got, err := g.ReadChassis(ctx)
			if err != nil {
				return err
			}
			o.Chassis = &got
		}
		if g, ok := gear.As[gear.Panel](d); ok {
			asked = true
			got, err := g.ReadPanel(ctx)
			if err != nil {
				return err
			}
			o.Panel = got
		}
		if g, ok := gear.As[gear.Supply](d); ok {
			asked = true
			got, err := g.ReadSupply(ctx)
			if err != nil {
				return err
			}
			o.Supply = &got
		}
		if g, ok := gear.As[gear.Answerer](d); ok && !asked {
			return g.Answer(ctx)
		}
		if !asked {
			return &gear.Error{Kind: gear.Unsupported, Text: fmt.Sprintf("%s %s", id, nothingToBeAsked)}
		}
		return nil
	})
}

// askSensors asks for readings, and for what is new in the event log.
func (w *Watcher) askSensors(ctx context.Context, id estate.EndpointID, ep estate.Endpoint) bool {
	o := Observation{Endpoint: &id, Beside: true}
	return w.ask(ctx, o, bound{sensorQuestions * ep.Timeout, sensorTrips}, func(ctx context.Context, d gear.Driver, o *Observation) error {
		if g, ok := gear.As[gear.Sensors](d); ok {
			got, err := g.ReadSensors(ctx)
			if err != nil {
				return err
			}
			got = reading.Sound(got)
			o.Sensors = &got
		}
		if g, ok := gear.As[gear.EventLog](d); ok {
			if got, err := g.ReadEvents(ctx); err == nil {
				o.Events = &got
			} else if gear.KindOf(err) == gear.Unreachable {
				return err
			}
		}
		return nil
	})
}

// askSetUp asks for what hardly changes: the sheet, and what is weak.
func (w *Watcher) askSetUp(ctx context.Context, id estate.EndpointID) bool {
	o := Observation{Endpoint: &id, Beside: true}
	return w.ask(ctx, o, bound{setUpWithin, setUpTrips}, func(ctx context.Context, d gear.Driver, o *Observation) error {
		if g, ok := gear.As[gear.Inventory](d); ok {
			got, err := g.ReadSheet(ctx)
			if err != nil {
				return err
			}
			o.Sheet = &got
		}
		if g, ok := gear.As[gear.Neighbours](d); ok {
			got, err := g.ReadNeighbours(ctx)
			if err != nil {
				return err
			}
			o.Neighbours = &got
		}
		if g, ok := gear.As[gear.Inspected](d); ok {
			got, err := g.Weaknesses(ctx)
			if err != nil {
				return err
			}
			o.Weak = &got
		}
		return nil
	})
}

// bound is how long a question may take: some time, or, where they are long, so many
// round trips.
type bound struct {
	time  time.Duration
	trips int
}

func (b bound) of(d gear.Driver) time.Duration {
	if p, ok := gear.As[gear.Paced](d); ok {
		return max(b.time, time.Duration(b.trips)*p.RoundTrip())
	}
	return b.time
}

// ask opens the driver, asks it, and hands on what came of that.
func (w *Watcher) ask(ctx context.Context, o Observation, within bound, question func(context.Context, gear.Driver, *Observation) error) bool {
	sent := time.Now()
	driver, err := w.from.Open(*o.Endpoint)
	if err == nil {
		bounded, cancel := context.WithTimeout(ctx, within.of(driver))
		defer cancel()
		err = gear.Safely(func() error { return question(bounded, driver, &o) })
	}
	var failed *gear.PanicError
	if errors.As(err, &failed) {
		w.from.Failed(*o.Endpoint, failed)
	}
	if ctx.Err() != nil {
		return false // we are stopping: that says nothing about the gear
	}
	o.Result = outcome(sent, err)
	w.from.Observe(o)
	return o.Result.OK
}

// outcome sorts an error: whoever refuses us, or talks nonsense, is there.
func outcome(sent time.Time, err error) verdict.Result {
	r := verdict.Result{SentAt: sent, RTT: time.Since(sent)}
	if err == nil {
		r.OK = true
		return r
	}
	r.Why = err.Error()
	switch gear.KindOf(err) {
	case gear.Updating:
		r.Refused, r.Updating = true, true
	case gear.BadSecret, gear.NotPermitted, gear.Unsupported, gear.Malformed, gear.Busy:
		r.Refused = true
	}
	return r
}
