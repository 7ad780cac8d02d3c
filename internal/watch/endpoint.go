package watch

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
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

// A reader asks a driver for one payload. It brings nil where the driver has nothing
// of that kind.
type reader struct {
	ask      func(context.Context, gear.Driver) (observation.Payload, error)
	optional bool // a "no" costs this payload only
}

func reads[T any, P observation.Payload](ask func(T, context.Context) (P, error)) reader {
	return reader{ask: func(ctx context.Context, d gear.Driver) (observation.Payload, error) {
		g, ok := gear.As[T](d)
		if !ok {
			return nil, nil
		}
		return ask(g, ctx)
	}}
}

// as makes what a driver returns a payload.
func as[T, R any, P observation.Payload](ask func(T, context.Context) (R, error), payload func(R) P) reader {
	return reads(func(g T, ctx context.Context) (P, error) {
		got, err := ask(g, ctx)
		return payload(got), err
	})
}

func (r reader) orNone() reader {
	r.optional = true
	return r
}

// readers is what an endpoint is asked for, each topic in one go.
var readers = map[topic][]reader{
	state: {
		as(gear.Outlets.ReadOutlets, func(x reading.Outlets) observation.Outlets { return observation.Outlets(x) }),
		as(gear.Chassis.ReadChassis, func(x reading.Chassis) observation.Chassis { return observation.Chassis(x) }),
		as(gear.Panel.ReadPanel, func(x []reading.Front) observation.Fronts { return x }),
		as(gear.Supply.ReadSupply, func(x reading.Supply) observation.Supply { return observation.Supply(x) }),
	},
	sensors: {
		as(gear.Sensors.ReadSensors, func(x []reading.Sensor) observation.Sensors { return reading.Sound(x) }),
		as(gear.EventLog.ReadEvents, func(x reading.EventLog) observation.Events { return observation.Events(x) }).orNone(),
	},
	setUp: {
		as(gear.Inventory.ReadSheet, func(x reading.Sheet) observation.Sheet { return observation.Sheet(x) }),
		as(gear.Neighbours.ReadNeighbours, func(x []reading.Neighbour) observation.Neighbours { return x }),
		as(gear.Inspected.Weaknesses, func(x []reading.Weakness) observation.Weak { return x }),
	},
}

// within is how long asking for a topic may take.
func (t topic) within(ep estate.Endpoint) bound {
	switch t {
	case sensors:
		return bound{sensorQuestions * ep.Timeout, sensorTrips}
	case setUp:
		return bound{setUpWithin, setUpTrips}
	}
	return bound{stateQuestions * ep.Timeout, stateTrips}
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

// read asks a driver for all of a topic.
func (t topic) read(ctx context.Context, d gear.Driver, id estate.EndpointID) (observation.Payloads, error) {
	var out observation.Payloads
	for _, r := range readers[t] {
		p, err := r.ask(ctx, d)
		switch {
		case err != nil && (!r.optional || gear.KindOf(err) == gear.Unreachable):
			return out, err
		case err == nil && p != nil:
			out = append(out, p)
		}
	}
	if t != state || len(out) > 0 {
		return out, nil
	}
	if g, ok := gear.As[gear.Answerer](d); ok {
		return nil, g.Answer(ctx)
	}
	return nil, &gear.Error{Kind: gear.Unsupported, Text: fmt.Sprintf("%s %s", id, nothingToBeAsked)}
}

// askEndpoint opens the driver, asks it for one topic, and hands on what came of that.
func (w *Watcher) askEndpoint(ctx context.Context, site estate.Key, id estate.EndpointID, ep estate.Endpoint, t topic) bool {
	o := observation.Observation{Site: site, Device: id.Device, Endpoint: id.Name, Beside: t != state}
	sent := time.Now()
	driver, err := w.from.Open(id)
	if err == nil {
		bounded, cancel := context.WithTimeout(ctx, t.within(ep).of(driver))
		defer cancel()
		err = gear.Safely(func() error {
			var err error
			o.Brought, err = t.read(bounded, driver, id)
			return err
		})
	}
	var failed *gear.PanicError
	if errors.As(err, &failed) {
		w.from.Bus.Broken.Publish(bus.Broken{Endpoint: id, Why: fmt.Sprint(failed.Value), Where: string(failed.Stack)})
	}
	if ctx.Err() != nil {
		return false // we are stopping: that says nothing about the gear
	}
	if o.Result = outcome(sent, err); err != nil {
		o.Brought = nil // half of it would stand for all
	}
	w.from.Bus.Observed.Publish(o)
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
