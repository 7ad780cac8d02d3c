// Package keep takes in observations: it holds the newest of each, judges the
// devices by them, tells what has changed, and sends the readings to the store.
//
//	keep.go      the newest of everything, and who is told
//	judge.go     the loop that judges
//	readings.go  what is worth storing, and the spool for when the store is away
//	storing.go   emptying the spool into the store, and what is brought back from it
//	supply.go    UPSes: what happens to them, and how they discharge
//	inside.go    what management controllers say about their boxes
//	view.go      what others may see of it
package keep

import (
	"log/slog"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
	"plumbbob/internal/watch"
)

// Keeper is what is known now. It may be shared between goroutines.
type Keeper struct {
	store   *store.Store
	log     *slog.Logger
	changed func([]estate.Key) // told which devices look different, without the lock
	dirty   chan struct{}

	// Retention is how long readings are kept. It must not change once Run runs.
	Retention store.Retention
	// Owned by storeReadings: how far the roll-ups have come, and the oldest that
	// was stored after that.
	rolled, late time.Time

	// Written is told that the journal has new entries; it does nothing unless it is set.
	Written func()

	// Standby says whether another service keeps the records now; nil: never.
	Standby func() bool

	// Health is told of what cannot be stored, or brought back; nil: nobody.
	Health *health.Book

	mu         sync.Mutex
	estate     *estate.Estate
	evidence   *verdict.Evidence
	verdicts   map[estate.Key]verdict.Verdict
	open       bool                                 // a verdict waits for what is heard next
	remembered bool                                 // what was before the start is known
	standing   map[estate.Key]store.StandingVerdict // from before the start, until it is known how the device is
	shown      map[estate.Key]shown
	subs       map[*Subscription]bool
	spool      spool
	inside     map[estate.Key]*Inside
	running    map[estate.Key]*power.Discharge // UPSes that live on their battery now
}

// shown is what was last told of a device, to see what has changed.
type shown struct {
	verdict verdict.Verdict
	drawn   int // 0.1 W
}

// New returns a keeper that knows nothing. changed is called for every batch
// of devices that look different.
func New(s *store.Store, log *slog.Logger, changed func([]estate.Key)) *Keeper {
	return &Keeper{
		store: s, log: log, changed: changed, dirty: make(chan struct{}, 1), Written: func() {}, Retention: store.DefaultRetention,
		estate: estate.Empty(), evidence: verdict.NewEvidence(), verdicts: map[estate.Key]verdict.Verdict{},
		standing: map[estate.Key]store.StandingVerdict{}, shown: map[estate.Key]shown{}, subs: map[*Subscription]bool{}, spool: newSpool(), inside: map[estate.Key]*Inside{}, running: map[estate.Key]*power.Discharge{},
	}
}

// SetEstate replaces the estate. What was observed of things that stay is kept.
func (k *Keeper) SetEstate(e *estate.Estate) {
	k.mu.Lock()
	k.evidence.Forget(k.estate, e)
	k.estate = e
	for key := range k.shown {
		if e.Device(key) == nil {
			delete(k.shown, key)
			delete(k.inside, key)
		}
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
func (k *Keeper) Observe(o watch.Observation) {
	k.mu.Lock()
	now := time.Now()
	switch {
	case o.Probe != nil:
		if d := k.estate.Device(o.Probe.Device); d != nil && o.Probe.Index < len(d.Questions()) {
			k.evidence.Probe(*o.Probe, o.Result)
			k.heard(o.Probe.Device, now)
		}
	case o.Endpoint != nil:
		k.endpoint(o, now)
	}
	told := k.evidence.News || k.open
	k.mu.Unlock()
	if told {
		k.touch()
	}
}

func (k *Keeper) endpoint(o watch.Observation, now time.Time) {
	d := k.estate.Device(o.Endpoint.Device)
	if d == nil {
		return
	}
	if o.Beside {
		k.within(d, o)
		return
	}
	k.evidence.Endpoint(*o.Endpoint, o.Result)
	if o.Chassis != nil {
		k.chassis(d, o)
	}
	if len(d.Probes) == 0 {
		k.heard(d.Key, now)
	}
	// That it answers is the reading of the endpoint itself.
	answers := o.Result.OK || o.Result.Refused
	k.publish(operation.Measured{At: o.Result.SentAt, Outlets: map[estate.End]operation.Reading{o.Endpoint.OwnEnd(): {At: o.Result.SentAt, On: answers}}})
	if len(o.Panel) > 0 {
		k.panels(d, o)
	}
	if o.Supply != nil {
		k.supply(d, *o.Supply, o.Result.SentAt)
	}
	if o.Outlets != nil {
		k.outlets(d, o, now)
	}
}

// outlets takes in what was read of all that a device gives power through.
func (k *Keeper) outlets(d *estate.Device, o watch.Observation, now time.Time) {
	if o.Outlets.TotalW != nil {
		k.evidence.Totals[d.Key] = *o.Outlets.TotalW
	}
	k.evidence.Meters[d.Key] = o.Outlets.Meters
	m := operation.Measured{At: o.Result.SentAt, Outlets: map[estate.End]operation.Reading{}}
	for _, r := range o.Outlets.Outlets {
		end := endOf(d, r)
		k.evidence.Outlet(end, verdict.Outlet{
			At: o.Result.SentAt, Name: r.Name, On: r.On, Metered: r.Metered, W: r.W, A: r.A, Wh: r.Wh, Switched: r.Switched,
			Giving: r.Giving, Trouble: r.Trouble, AfterLoss: string(r.AfterLoss), OnDelay: r.OnDelay, OffDelay: r.OffDelay,
		})
		m.Outlets[end] = operation.Reading{At: o.Result.SentAt, On: r.On, Metered: r.Metered, W: r.W}
	}
	k.publish(m)
	k.readings(d, now)
	k.meters(d, now)
}

// panels takes in how the lights are on the fronts to which a board has leads.
func (k *Keeper) panels(board *estate.Device, o watch.Observation) {
	m := operation.Measured{At: o.Result.SentAt, Outlets: map[estate.End]operation.Reading{}}
	for i := range k.estate.Devices {
		d := &k.estate.Devices[i]
		for _, lead := range d.Panel {
			for _, r := range o.Panel {
				if lead == estate.OutletEnd(board.Key, r.Lead) {
					k.evidence.Panel(d.Key, verdict.Light{At: m.At, On: r.Power, Disk: r.Disk})
					m.Outlets[estate.PanelEnd(d.Key)] = operation.Reading{At: m.At, On: r.Power}
				}
			}
		}
	}
	k.publish(m)
}

// endOf names what was read. Gear does not know of kinds: what it calls an
// outlet is, on a device of which the estate says so, an output of direct
// current or a slot.
func endOf(d *estate.Device, r gear.OutletReading) estate.End {
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
		k.publish(operation.Heard{At: last, Device: key})
	case silent:
		k.publish(operation.Unheard{At: since, Device: key})
	}
}

// A Subscription is a queue of what running operations want to know.
type Subscription struct {
	C      chan operation.Event
	keeper *Keeper
}

const subscriptionSize = 1024

// Subscribe starts a queue. What does not fit is dropped: the same is
// observed again half a second later.
func (k *Keeper) Subscribe() *Subscription {
	s := &Subscription{C: make(chan operation.Event, subscriptionSize), keeper: k}
	k.mu.Lock()
	k.subs[s] = true
	k.mu.Unlock()
	return s
}

// Close ends a queue.
func (s *Subscription) Close() {
	s.keeper.mu.Lock()
	delete(s.keeper.subs, s)
	s.keeper.mu.Unlock()
}

func (k *Keeper) publish(e operation.Event) {
	for s := range k.subs {
		select {
		case s.C <- e:
		default:
		}
	}
}

// SetOperating says what an operation is doing to devices; empty words end it.
func (k *Keeper) SetOperating(devices []estate.Key, doing string) {
	k.mu.Lock()
	for _, d := range devices {
		if doing == "" {
			delete(k.evidence.Operating, d)
		} else {
			k.evidence.Operating[d] = doing
		}
	}
	k.mu.Unlock()
	k.touch()
}

// Park says that a device is meant to be off.
func (k *Keeper) Park(d estate.Key, p verdict.Parking) {
	k.mu.Lock()
	k.evidence.Parked[d] = p
	k.mu.Unlock()
	k.touch()
}

// Unpark says that it is not, any more.
func (k *Keeper) Unpark(d estate.Key) {
	k.mu.Lock()
	delete(k.evidence.Parked, d)
	k.mu.Unlock()
	k.touch()
}
