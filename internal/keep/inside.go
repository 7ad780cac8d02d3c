package keep

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

// Inside is the newest that a management controller said about a box. The
// parts come at their own times; a zero time means that it has not come yet.
type Inside struct {
	Sensors   []reading.Sensor
	SensorsAt time.Time
	Events    reading.EventLog
	EventsAt  time.Time
	Sheet     reading.Sheet
	SheetAt   time.Time
	Weak      []reading.Weakness
	WeakAt    time.Time

	missed map[string]missed // by series
	starts starts

	Neighbours   []reading.Neighbour // of a switch
	NeighboursAt time.Time
	Discharges   []power.Discharge // of a UPS, the newest last
}

// chassis takes in how the host is.
func (k *Keeper) chassis(d *estate.Device, c reading.Chassis, at time.Time) {
	c.At = at
	k.evidence.Controller(d.Key, c)
	r := operation.Reading{At: c.At, On: c.On}
	if c.Watts != nil {
		r.Metered, r.W = true, *c.Watts
		k.spool.add(seriesKey{d.Key, ChassisSeries}, d.Site, "W", sample{c.At, *c.Watts}, max(1, 2*resolution**c.Watts))
	}
	k.measured(operation.Measured{At: c.At, Outlets: map[estate.End]operation.Reading{estate.ChassisEnd(d.Key): r}})
	if len(d.Power) == 0 || !k.metered(d) {
		k.reading(d, time.Now())
	}
}

// metered: what it draws is measured at its outlets, which is better.
func (k *Keeper) metered(d *estate.Device) bool {
	return slices.ContainsFunc(d.Power, func(c estate.PowerCable) bool { return k.evidence.Outlets[c.From].Metered })
}

// insideOf returns what is known about the inside of a box, to be added to.
func (k *Keeper) insideOf(key estate.Key) *Inside {
	in := k.inside[key]
	if in == nil {
		in = &Inside{}
		k.inside[key] = in
	}
	return in
}

// within takes in what was read beside that.
func (k *Keeper) within(d *estate.Device, o observation.Observation) {
	if !o.Result.OK {
		a := k.evidence.Ailing[d.Key]
		a.Failed = o.Result.Why
		k.evidence.Ail(d.Key, a)
		return
	}
	in := k.insideOf(d.Key)
	at := o.Result.SentAt
	for _, p := range o.Brought {
		switch p := p.(type) {
		case observation.Sensors:
			in.missing(p)
			in.Sensors, in.SensorsAt = p, at
			k.sensors(d, in, goodFor(d, o.Endpoint))
		case observation.Events:
			if in.Events.Version != p.Version {
				k.spool.docs[docKey{d.Key, docEvents}] = reading.EventLog(p)
			}
			if !in.EventsAt.IsZero() && in.Events.Version != p.Version {
				k.logTells(d, in, reading.EventLog(p), at)
			}
			in.Events, in.EventsAt = reading.EventLog(p), at
		case observation.Sheet:
			k.sheetTells(d, in, reading.Sheet(p), at)
			p.Up, p.Starts, p.LastStart = 0, 0, "" // they change, and are no part of the type plate
			in.Sheet, in.SheetAt = reading.Sheet(p), at
			k.spool.docs[docKey{d.Key, docSheet}] = in.Sheet
		case observation.Neighbours:
			in.Neighbours, in.NeighboursAt = p, at
			k.evidence.TakePorts(d.Key, verdict.Ports{At: at, List: p}, func(x estate.Key) bool { return k.estate.Device(x) != nil })
			k.spool.docs[docKey{d.Key, docNeighbours}] = in.Neighbours
		case observation.Weak:
			in.Weak, in.WeakAt = p, at
			k.spool.docs[docKey{d.Key, docWeak}] = in.Weak
		}
	}
	k.spool.looked[d.Key] = true
}

// missingFor is how many readings a sensor may be missing from before that is told.
const missingFor = 3

// A missed is a sensor that was there and is told of no more.
type missed struct {
	last reading.Sensor
	n    int // readings without it
}

// missing notes which of the sensors that were there are not in a new reading.
func (in *Inside) missing(now []reading.Sensor) {
	there := map[string]bool{}
	for _, s := range now {
		there[s.Series] = true
		delete(in.missed, s.Series)
	}
	for series, m := range in.missed {
		m.n++
		in.missed[series] = m
	}
	for _, s := range in.Sensors {
		if !there[s.Series] {
			if in.missed == nil {
				in.missed = map[string]missed{}
			}
			in.missed[s.Series] = missed{s, 1}
		}
	}
}

// gone are the sensors that have been missing for too long: what was wrong with one is
// until it is seen right.
func (in *Inside) gone() (out []verdict.Ailment) {
	for _, series := range slices.Sorted(maps.Keys(in.missed)) {
		m := in.missed[series]
		switch {
		case m.last.Level.Worse(reading.Fine):
			out = append(out, verdict.Ailment{Text: m.last.Trouble() + ", as was last read: it is not told of any more", Level: m.last.Level})
		case m.n >= missingFor:
			out = append(out, verdict.Ailment{Text: m.last.Name + " is not told of any more", Level: reading.Warning})
		}
	}
	return out
}

// sensors judges readings and spools their values.
func (k *Keeper) sensors(d *estate.Device, in *Inside, good time.Duration) {
	a := verdict.Ailments{At: in.SensorsAt, Good: good}
	for _, s := range in.Sensors {
		if s.Level.Worse(reading.Fine) {
			a.List = append(a.List, verdict.Ailment{Text: s.Trouble(), Level: s.Level})
		}
		if s.Value != nil {
			resolution := 1.0
			for range s.Digits {
				resolution /= 10
			}
			k.spool.add(seriesKey{d.Key, SensorSeries(s.Series)}, d.Site, s.Unit, sample{in.SensorsAt, *s.Value}, resolution)
		}
	}
	a.List = append(a.List, in.gone()...)
	slices.SortStableFunc(a.List, func(x, y verdict.Ailment) int {
		if x.Level == y.Level {
			return 0
		}
		return map[bool]int{true: -1, false: 1}[y.Level.Worse(x.Level)] // the worst is told last, and so stands first
	})
	k.evidence.Ail(d.Key, a)
}

// goodFor is how long the readings of an endpoint count: some rounds, and the
// time that a slow controller takes for one.
func goodFor(d *estate.Device, endpoint string) time.Duration {
	ep, _ := d.Endpoint(endpoint)
	return 3*ep.Sensors + 4*ep.Timeout
}

// SensorSeries is the name of the series of a sensor's values.
func SensorSeries(sensor string) string { return "sensor:" + sensor }

// Inside returns what is known about the inside of a box.
func (k *Keeper) Inside(key estate.Key) Inside {
	k.mu.Lock()
	defer k.mu.Unlock()
	if in := k.inside[key]; in != nil {
		return *in
	}
	return Inside{}
}

// InsideOf is Inside within See.
func (k *Keeper) InsideOf(key estate.Key) *Inside { return k.inside[key] }

// The kinds of what is kept as documents, for when the service starts again
// and a controller is silent then.
const (
	docEvents = "events"
	docSheet  = "sheet"
	docWeak   = "weaknesses"

	docNeighbours = "neighbours"
)

type docKey struct {
	device estate.Key
	kind   string
}

// Archive keeps a copy of an event log that is about to be erased.
func (k *Keeper) Archive(ctx context.Context, d *estate.Device, log reading.EventLog) error {
	now := time.Now()
	text, err := json.Marshal(log)
	if err != nil {
		return fmt.Errorf("event log of %s: %w", d.Key, err)
	}
	return k.store.SetDocuments(ctx, []store.Document{{Device: d.Key, Site: d.Site, Kind: fmt.Sprintf("ev-%d", now.Unix()), At: now, Text: text}})
}

// documents writes out what has changed.
func documents(changed map[docKey]any, e *estate.Estate, at time.Time) []store.Document {
	var out []store.Document
	for key, doc := range changed {
		text, err := json.Marshal(doc)
		if d := e.Device(key.device); err == nil && d != nil {
			out = append(out, store.Document{Device: key.device, Site: d.Site, Kind: key.kind, At: at, Text: text})
		}
	}
	return out
}
