// Package keep takes in observations: it holds the newest of each, judges the
// devices by them, tells what has changed, and sends the readings to the store.
//
//	keep.go      the newest of everything, and who is told
//	judge.go     the loop that judges
//	readings.go  what is worth storing, and the spool for when the store is away
//	storing.go   emptying the spool into the store, and what is brought back from it
//	restarts.go  what shows that a device has started anew
//	supply.go    UPSes: what happens to them, and how they discharge
//	inside.go    what management controllers say about their boxes
//	usual.go     what devices draw at this hour
//	ways.go      how questions fare on the way
//	view.go      what others may see of it
package keep

import (
	"log/slog"
	"sync"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/loss"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// Keeper is what is known now. It may be shared between goroutines.
type Keeper struct {
	store *store.Store
	log   *slog.Logger
	bus   *bus.Bus
	dirty chan struct{}

	// Retention is how long readings are kept. It must not change once Run runs.
	Retention store.Retention
	// Owned by storeReadings: how far the roll-ups have come, and the oldest that
	// was stored after that.
	rolled, late time.Time

	// Standby says whether another service keeps the records now; nil: never.
	Standby func() bool

	// Health is told of what cannot be stored, or brought back; nil: nobody.
	Health *health.Book

	mu         sync.Mutex
	estate     *estate.Estate
	evidence   *verdict.Evidence
	verdicts   *verdict.Standing
	remembered bool                                 // what was before the start is known
	before     map[estate.Key]store.StandingVerdict // how all was before the start, until it is known how the device is
	shown      map[estate.Key]shown
	spool      spool
	inside     map[estate.Key]*Inside
	running    map[estate.Key]*power.Discharge // UPSes that live on their battery now
	trips      map[estate.Key]*loss.Trip       // how questions fare, of late
	leads      leadBook
	dips       map[estate.Key]dip       // draws that have fallen to nothing
	operated   map[estate.Key]time.Time // when an operation last had to do with a device
}

// shown is what was last told of a device, to see what has changed.
type shown struct {
	verdict verdict.Verdict
	w       float64
}

// New returns a keeper that knows nothing, and takes in what is observed from now on.
func New(s *store.Store, log *slog.Logger, b *bus.Bus) *Keeper {
	k := &Keeper{
		store: s, log: log, bus: b, dirty: make(chan struct{}, 1), Retention: store.DefaultRetention,
		estate: estate.Empty(), evidence: verdict.NewEvidence(),
		before: map[estate.Key]store.StandingVerdict{}, shown: map[estate.Key]shown{}, spool: newSpool(), inside: map[estate.Key]*Inside{}, running: map[estate.Key]*power.Discharge{}, operated: map[estate.Key]time.Time{}, trips: map[estate.Key]*loss.Trip{}, dips: map[estate.Key]dip{},
	}
	k.verdicts = verdict.NewStanding(k.estate, k.evidence, nil)
	b.Observed.Listen(k.Observe)
	b.Recognised.Listen(k.recognised)
	return k
}

// SetEstate replaces the estate. What was observed of things that stay is kept.
func (k *Keeper) SetEstate(e *estate.Estate) {
	k.mu.Lock()
	k.evidence.Forget(k.estate, e)
	k.estate = e
	k.verdicts = verdict.NewStanding(e, k.evidence, k.verdicts.Verdicts())
	for key := range k.shown {
		if e.Device(key) == nil {
			delete(k.shown, key)
			delete(k.inside, key)
			delete(k.trips, key)
			delete(k.dips, key)
		}
	}
	k.mu.Unlock()
	k.touch()
}

// recognised takes in what a serial line has said that is known.
func (k *Keeper) recognised(x bus.LineSaid) {
	k.mu.Lock()
	for _, f := range x.Found {
		k.evidence.Say(x.Device, verdict.Saying{At: f.At, What: f.Name, Screen: x.Screen})
	}
	k.mu.Unlock()
	k.touch()
}

// touch has the verdicts worked out again soon.
func (k *Keeper) touch() {
	select {
	case k.dirty <- struct{}{}:
	default:
	}
}

// Observe takes in one observation.
func (k *Keeper) Observe(o observation.Observation) {
	k.mu.Lock()
	now := time.Now()
	if d := k.estate.Device(o.Device); d != nil {
		switch {
		case o.Endpoint != "" && o.Beside:
			k.within(d, o)
		case o.Endpoint != "":
			k.endpoint(d, o, now)
		case o.Probe < len(d.Questions()):
			if o.Probe == 0 && len(d.Probes) > 0 {
				k.fared(d, k.evidence.Probes[o.ProbeID()], o.Result)
			}
			k.evidence.Probe(o.ProbeID(), o.Result)
			k.heard(o.Device, now)
		}
	}
	told := k.evidence.News || k.verdicts.Open()
	k.mu.Unlock()
	if told {
		k.touch()
	}
}

func (k *Keeper) endpoint(d *estate.Device, o observation.Observation, now time.Time) {
	if len(d.Probes) == 0 && len(d.Endpoints) > 0 && d.Endpoints[0].Name == o.Endpoint {
		k.fared(d, k.evidence.Endpoints[o.EndpointID()], o.Result)
	}
	k.evidence.Endpoint(o.EndpointID(), o.Result)
	at := o.Result.SentAt
	for _, p := range o.Brought {
		if c, ok := p.(observation.Chassis); ok {
			k.chassis(d, reading.Chassis(c), at)
		}
	}
	if len(d.Probes) == 0 {
		k.heard(d.Key, now)
	}
	// That it answers is the reading of the endpoint itself.
	answers := o.Result.OK || o.Result.Refused
	k.measured(operation.Measured{At: at, Outlets: map[estate.End]operation.Reading{o.EndpointID().OwnEnd(): {At: at, On: answers}}})
	for _, p := range o.Brought {
		switch p := p.(type) {
		case observation.Fronts:
			k.panels(d, p, at)
		case observation.Supply:
			k.supply(d, reading.Supply(p), at)
		case observation.Outlets:
			k.outlets(d, reading.Outlets(p), at, now)
		}
	}
}

// outlets takes in what was read of all that a device gives power through.
func (k *Keeper) outlets(d *estate.Device, all reading.Outlets, at, now time.Time) {
	if all.TotalW != nil {
		k.evidence.Totals[d.Key] = *all.TotalW
	}
	k.evidence.Meters[d.Key] = all.Meters
	m := operation.Measured{At: at, Outlets: make(map[estate.End]operation.Reading, len(all.Outlets))}
	for _, r := range all.Outlets {
		end := endOf(d, r)
		k.drawTells(end, k.evidence.Outlets[end], r, at)
		k.evidence.Outlet(end, verdict.Outlet{
			At: at, Name: r.Name, On: r.On, Metered: r.Metered, W: r.W, A: r.A, Wh: r.Wh, Switched: r.Switched,
			Giving: r.Giving, Trouble: r.Trouble, AfterLoss: string(r.AfterLoss), OnDelay: r.OnDelay, OffDelay: r.OffDelay,
		})
		m.Outlets[end] = operation.Reading{At: at, On: r.On, Metered: r.Metered, W: r.W, Giving: r.Giving, Fault: r.Trouble}
	}
	k.measured(m)
	k.readings(d, now)
	k.meters(d, now)
}

// panels takes in how the lights are on the fronts to which a board has leads.
func (k *Keeper) panels(board *estate.Device, fronts observation.Fronts, at time.Time) {
	if len(fronts) == 0 {
		return
	}
	m := operation.Measured{At: at, Outlets: map[estate.End]operation.Reading{}}
	for i := range k.estate.Devices {
		d := &k.estate.Devices[i]
		for _, lead := range d.Panel {
			for _, r := range fronts {
				if lead == estate.OutletEnd(board.Key, r.Lead) {
					k.evidence.Panel(d.Key, verdict.Light{At: at, On: r.Power, Disk: r.Disk})
					k.spool.add(seriesKey{d.Key, LightSeries}, d.Site, "", sample{at, map[bool]float64{true: 1}[r.Power]}, lightChanged)
					m.Outlets[estate.PanelEnd(d.Key)] = operation.Reading{At: at, On: r.Power}
				}
			}
		}
	}
	k.measured(m)
}

// endOf names what was read. Gear does not know of kinds: what it calls an
// outlet is, on a device of which the estate says so, an output of direct
// current or a slot.
func endOf(d *estate.Device, r reading.Outlet) estate.End {
	kind := r.Kind
	if kind == estate.Socket {
		for _, o := range d.Outlets {
			if o.Number == r.Number && o.Kind != estate.PoE && o.Kind != estate.USB {
				kind = o.Kind
				break
			}
		}
	}
	return estate.SourceEnd(d.Key, kind, r.Number)
}

// heard tells subscribers whether a device answers, when that is certain.
func (k *Keeper) heard(key estate.Key, now time.Time) {
	answers, silent, last, since := verdict.Heard(k.estate, k.evidence, key, now)
	switch {
	case answers:
		k.measured(operation.Heard{At: last, Device: key})
	case silent:
		k.measured(operation.Unheard{At: since, Device: key})
	}
}

// measured tells running operations what they wait for.
func (k *Keeper) measured(e operation.Event) { k.bus.Measured.Publish(e) }

// SetOperating says what an operation is doing to devices; empty words end it.
func (k *Keeper) SetOperating(devices []estate.Key, doing string) {
	k.mu.Lock()
	for _, d := range devices {
		k.evidence.Operate(d, doing)
		k.operated[d] = time.Now()
	}
	k.mu.Unlock()
	k.touch()
}

// Park says that a device is meant to be off.
func (k *Keeper) Park(d estate.Key, p verdict.Parking) {
	k.mu.Lock()
	k.evidence.Park(d, p)
	k.mu.Unlock()
	k.touch()
}

// Unpark says that it is not, any more.
func (k *Keeper) Unpark(d estate.Key) {
	k.mu.Lock()
	k.evidence.Unpark(d)
	k.mu.Unlock()
	k.touch()
}
