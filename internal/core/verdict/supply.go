package verdict

import (
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// Supply is the newest that a UPS said of itself.
type Supply struct {
	reading.Supply
	At    time.Time
	Since time.Time // since when its state is what it is
}

// TakeSupply takes in what a UPS says. It returns the state before, which is
// empty at the first time.
func (ev *Evidence) TakeSupply(k estate.Key, s reading.Supply, at time.Time) (was string) {
	old, known := ev.Supplies[k]
	if known && at.Before(old.At) {
		return old.State()
	}
	now := Supply{Supply: s, At: at, Since: at}
	if known {
		was = old.State()
		if was == now.State() {
			now.Since = old.Since
		}
	}
	ev.Supplies[k] = now
	return was
}

// supply returns what a UPS says, while that is fresh.
func (j *judge) supply(d *estate.Device) (Supply, bool) {
	s, known := j.ev.Supplies[d.Key]
	ep, ok := d.OutletEndpoint()
	return s, known && ok && Fresh(ep, s.At, j.now)
}

// OutputOff says whether a UPS is known to give nothing.
func OutputOff(ev *Evidence, d *estate.Device, now time.Time) bool {
	j := &judge{ev: ev, now: now}
	s, fresh := j.supply(d)
	return d.Supply != nil && fresh && s.Source == reading.SourceNone
}

// supplyTroubles says what is wrong with a UPS.
func (j *judge) supplyTroubles(d *estate.Device, strain func(Severity, Reason)) {
	s, fresh := j.supply(d)
	if d.Supply == nil || !fresh {
		return
	}
	list := s.Troubles()
	for i := range list { // the worst is told last, and so stands first
		x := list[len(list)-1-i]
		severity := Warning
		if x.Level == reading.Critical {
			severity = Critical
		}
		strain(severity, Reason{Text: x.Words, At: s.Since, Since: true})
	}
}

// supplyFeed weighs a cable that comes from a UPS as a whole.
func (j *judge) supplyFeed(ups *estate.Device) power {
	s, fresh := j.supply(ups)
	switch {
	case !fresh && s.At.IsZero():
		return power{reasons: []Reason{{Text: fmt.Sprintf("whether %s gives power is not known", ups.Key)}}}
	case !fresh:
		return power{stale: true, reasons: []Reason{{Text: fmt.Sprintf("%s was last heard %s, but that is stale", ups.Key, s.State()), At: s.At}}}
	case s.Source == reading.SourceNone:
		return power{state: powerNo, at: s.At, reasons: []Reason{{Stance: For, Text: fmt.Sprintf("the output of %s is off", ups.Key), At: s.At}}}
	}
	return power{state: powerYes, at: s.At, reasons: []Reason{{Stance: For, Text: fmt.Sprintf("%s gives power: it is %s", ups.Key, s.State()), At: s.At}}}
}

// supplyHop is a UPS in a power line, with what tells most about it.
func (j *judge) supplyHop(d *estate.Device) Hop {
	h := Hop{Device: d.Key, Label: string(d.Key), State: HopUnknown, Text: "its card is silent"}
	s, fresh := j.supply(d)
	if !fresh {
		return h
	}
	h.State, h.Text, h.Carries = HopSound, s.State(), s.Source != reading.SourceNone
	if s.Source == reading.SourceNone {
		h.State = HopBroken
	}
	if m := s.Battery.Minutes; m != nil && s.OnBattery() {
		h.Text += fmt.Sprintf(", %.0f min left", *m)
	} else if load, known := s.Load(); known {
		h.Text += fmt.Sprintf(", load %.0f %%", load)
	}
	return h
}

// inputGood is the share of its nominal voltage at which an input is there.
const inputGood = 0.6

// Utility says whether the utility is there at a site, as the UPSes that hang
// on it measure: at least one that does, or none.
func Utility(e *estate.Estate, ev *Evidence, site estate.Key, now time.Time) (there bool, volts float64, known bool) {
	j := &judge{e: e, ev: ev, now: now}
	for i := range e.Devices {
		d := &e.Devices[i]
		if d.Site != site || d.Supply == nil {
			continue
		}
		s, fresh := j.supply(d)
		if !fresh {
			continue
		}
		nominal := float64(estate.DefaultVolts)
		if s.Config.InV != nil && *s.Config.InV > 0 {
			nominal = *s.Config.InV
		}
		for _, in := range s.Inputs {
			if in.V != nil {
				known = true
				volts = max(volts, *in.V)
				there = there || *in.V >= inputGood*nominal
			}
		}
	}
	return there, volts, known
}

// Powerless says whether a device is known to be without power: its feeds are,
// and it does not answer.
func Powerless(e *estate.Estate, ev *Evidence, k estate.Key, now time.Time) bool {
	d := e.Device(k)
	if d == nil {
		return false
	}
	j := &judge{e: e, ev: ev, now: now, memo: map[estate.Key]hearing{}}
	return j.powerless(d)
}

func (j *judge) powerless(d *estate.Device) bool {
	return len(d.Power) > 0 && !j.hears(d).answers && j.power(d).state == powerNo
}

// utilityFeed weighs a cable that comes from the utility: that it is gone is
// measured by the UPSes of the site, and that it is there says only that.
func (j *judge) utilityFeed(d *estate.Device) power {
	there, _, known := Utility(j.e, j.ev, d.Site, j.now)
	if !known || there || d.Supply != nil || j.hears(d).answers {
		return power{} // what answers hangs on something else, whatever the UPSes measure
	}
	return power{state: powerNo, at: j.now, reasons: []Reason{{Stance: For, Text: "the utility is gone at " + string(d.Site) + ", as its UPS measures"}}}
}
