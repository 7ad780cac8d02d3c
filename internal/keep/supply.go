package keep

import (
	"cmp"
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/store"
)

// The series of a UPS, beside its draw.
const (
	SeriesCharge  = "ups:charge"
	SeriesMinutes = "ups:minutes"
	SeriesLoad    = "ups:load"
	SeriesInputV  = "ups:input"
	SeriesBattery = "ups:battery"
)

// serviceName stands in the journal for what nobody did.
const serviceName = "plumbd"

// supply takes in what a UPS says: its readings, what has happened to it, and
// how a discharge goes.
func (k *Keeper) supply(d *estate.Device, s reading.Supply, at time.Time) {
	was := k.evidence.TakeSupply(d.Key, s, at)
	if s.Told() {
		k.measured(operation.Measured{At: at, Outlets: map[estate.End]operation.Reading{estate.OutputEnd(d.Key): operation.OutputReading(&s, at)}})
	}
	watts, known := s.W()
	if known {
		k.evidence.Totals[d.Key] = watts
		k.reading(d, at)
	}
	add := func(name, unit string, v *float64, resolution float64) {
		if v != nil {
			k.spool.add(seriesKey{d.Key, name}, d.Site, unit, sample{at, *v}, resolution)
		}
	}
	add(SeriesCharge, "%", s.Battery.Charge, 1)
	add(SeriesMinutes, "min", s.Battery.Minutes, 1)
	add(SeriesBattery, "V", s.Battery.V, 0.1)
	if load, known := s.Load(); known {
		add(SeriesLoad, "%", &load, 1)
	}
	for i, in := range s.Inputs {
		name := SeriesInputV
		if i > 0 {
			name += fmt.Sprint("-", i+1)
		}
		add(name, "V", in.V, 1)
	}
	if now := s.State(); was != "" && was != now {
		k.event(d, at, fmt.Sprintf("%s: %s, was %s", d.Key, told(s), was))
	}
	k.discharge(d, s, at, watts)
	k.spool.looked[d.Key] = true
}

// told is the state of a UPS with its telling numbers.
func told(s reading.Supply) string {
	text := s.State()
	if c := s.Battery.Charge; c != nil {
		text += fmt.Sprintf(", charge %.0f %%", *c)
	}
	if m := s.Battery.Minutes; m != nil && s.OnBattery() {
		text += fmt.Sprintf(", %.0f min left", *m)
	}
	return text
}

// event spools an entry of the journal about what happened by itself.
// Note has the journal say something, beside: it waits while the store is away.
func (k *Keeper) Note(e store.Entry) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.note(e)
}

func (k *Keeper) event(d *estate.Device, at time.Time, text string) {
	k.note(store.Entry{At: at, Site: d.Site, Device: d.Key, Who: serviceName, Kind: store.EntrySupply, Text: text, Result: "seen"})
}

func (k *Keeper) note(e store.Entry) {
	k.spool.entries = append(k.spool.entries, e)
	if over := len(k.spool.entries) - maxEntries; over > 0 {
		k.spool.entries = k.spool.entries[over:]
	}
}

// maxEntries bounds what waits for the journal while the store is away.
const maxEntries = 10_000

// discharge follows a UPS that lives on its battery, and keeps what became of
// it: how long its battery lasts is worked out from that. A self-test counts
// as well: it is a discharge.
func (k *Keeper) discharge(d *estate.Device, s reading.Supply, at time.Time, watts float64) {
	run := k.running[d.Key]
	charge := s.Battery.Charge
	switch {
	case s.OnBattery() && charge != nil && run == nil:
		k.running[d.Key] = &power.Discharge{Device: d.Key, Began: at, Ended: at, W: watts, From: *charge, To: *charge}
	case s.OnBattery() && charge != nil:
		if took := at.Sub(run.Began); took > 0 { // the mean, weighted with time
			run.W += (watts - run.W) * float64(at.Sub(run.Ended)) / float64(took)
		}
		run.Ended, run.To = at, min(run.To, *charge)
	case run != nil && !s.OnBattery():
		delete(k.running, d.Key)
		if run.From > run.To {
			k.spool.discharges = append(k.spool.discharges, *run)
			past := append(k.insideOf(d.Key).Discharges, *run)
			k.insideOf(d.Key).Discharges = past[max(0, len(past)-keepDischarges):]
		}
	}
}

// keepDischarges is how many of a UPS are worked with.
const keepDischarges = 20

// meters spools what is measured of a device beside its outlets.
func (k *Keeper) meters(d *estate.Device, now time.Time) {
	for _, m := range k.evidence.Meters[d.Key] {
		name := "meter:" + cmp.Or(m.Name, m.Kind)
		if m.A != nil {
			k.spool.add(seriesKey{d.Key, name + ":current"}, d.Site, "A", sample{now, *m.A}, max(0.02, 0.02**m.A))
		}
		if m.W != nil && m.Kind != "inlet" { // the inlet's is the draw
			k.spool.add(seriesKey{d.Key, name + ":power"}, d.Site, "W", sample{now, *m.W}, max(resolutionW, 0.02**m.W))
		}
		if m.V != nil {
			k.spool.add(seriesKey{d.Key, name + ":voltage"}, d.Site, "V", sample{now, *m.V}, 1)
		}
	}
}

// TakeSupply takes in what a UPS was read to say between two rounds.
func (k *Keeper) TakeSupply(key estate.Key, s reading.Supply) {
	k.mu.Lock()
	if d := k.estate.Device(key); d != nil {
		k.supply(d, s, time.Now())
	}
	k.mu.Unlock()
	k.touch()
}
