package verdict

import (
	"cmp"
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
	ev.touch(k)
	ev.news(was != now.State())
	return was
}

// supply returns what a UPS says, while that is fresh.
func (m *Moment) supply(d *estate.Device) (Supply, bool) {
	m.look(factsOf, d)
	s, known := m.ev.Supplies[d.Key]
	ep, ok := d.OutletEndpoint()
	return s, known && ok && m.fresh(ep, s.At)
}

// OutputOff says whether a UPS is known to give nothing.
func OutputOff(ev *Evidence, d *estate.Device, now time.Time) bool {
	return (&Moment{ev: ev, now: now}).outputOff(d)
}

func (m *Moment) outputOff(d *estate.Device) bool {
	if d.Supply == nil {
		return false
	}
	s, fresh := m.supply(d)
	return fresh && s.Source == reading.SourceNone
}

// supplyTroubles says what is wrong with a UPS.
func (m *Moment) supplyTroubles(d *estate.Device, strain func(Severity, Reason)) {
	if d.Supply == nil {
		return
	}
	s, fresh := m.supply(d)
	if !fresh {
		return
	}
	list := s.Troubles()
	for i := range list { // the worst is told last, and so stands first
		x := list[len(list)-1-i]
		severity := Warning
		if x.Level == reading.Critical {
			severity = Critical
		}
		strain(severity, Reason{Text: Say(x.Words), At: s.Since, Since: true})
	}
}

// supplyFeed weighs a cable that comes from a UPS as a whole.
func (m *Moment) supplyFeed(ups *estate.Device) power {
	s, fresh := m.supply(ups)
	switch {
	case !fresh && s.At.IsZero():
		return power{reasons: []Reason{{Text: Say("whether %s gives power is not known", ups.Key)}}}
	case !fresh:
		return power{stale: true, reasons: []Reason{{Text: Say("%s was last heard %s, but that is stale", ups.Key, s.State()), At: s.At}}}
	case !s.Told():
		return power{reasons: []Reason{{Text: Say("%s does not say where its power comes from", ups.Key), At: s.At}}}
	case s.Source == reading.SourceNone:
		return power{state: powerNo, at: s.At, cause: ups.Key, reasons: []Reason{{Stance: For, Text: Say("the output of %s is off", ups.Key), At: s.At}}}
	}
	return power{state: powerYes, at: s.At, reasons: []Reason{{Stance: For, Text: Say("%s gives power: it is %s", ups.Key, s.State()), At: s.At}}}
}

// supplyHop is a UPS in a power line, with what tells most about it.
func (m *Moment) supplyHop(d *estate.Device) Hop {
	h := Hop{Device: d.Key, Label: string(d.Key), State: HopUnknown, Text: "its card is silent"}
	s, fresh := m.supply(d)
	if !fresh {
		return h
	}
	h.State, h.Text, h.Carries = HopSound, s.State(), s.Source != reading.SourceNone
	switch {
	case s.Source == reading.SourceNone:
		h.State = HopBroken
	case !s.Told():
		h.State, h.Carries = HopUnknown, false
	}
	if left := s.Battery.Minutes; left != nil && s.OnBattery() {
		h.Text += fmt.Sprintf(", %.0f min left", *left)
	} else if load, known := s.Load(); known {
		h.Text += fmt.Sprintf(", load %.0f %%", load)
	}
	return h
}

// inputGood is the share of its nominal voltage at which an input is there.
const inputGood = 0.6

// mains is what the UPSes of a site measure of the utility.
type mains struct {
	there, known bool
	volts        float64
	witness      estate.Key // the first UPS that measures it
}

// Utility says whether the utility is there at a site, as the UPSes that hang
// on it measure: at least one that does, or none.
func (m *Moment) Utility(site estate.Key) (there bool, volts float64, known bool) {
	u := m.mains(site)
	return u.there, u.volts, u.known
}

func (m *Moment) mains(site estate.Key) mains {
	return share(m, &m.utilities, site, func() (u mains) {
		for _, d := range m.e.Supplies(site) {
			u = m.measures(d, u)
		}
		return u
	})
}

// measures adds what one UPS measures of the utility of its site.
func (m *Moment) measures(d *estate.Device, u mains) mains {
	s, fresh := m.supply(d)
	if !fresh {
		return u
	}
	nominal := float64(estate.DefaultVolts)
	if s.Config.InV != nil && *s.Config.InV > 0 {
		nominal = *s.Config.InV
	}
	for _, in := range s.Inputs {
		if in.V != nil {
			u.known = true
			u.witness = cmp.Or(u.witness, d.Key)
			u.volts = max(u.volts, *in.V)
			u.there = u.there || *in.V >= inputGood*nominal
		}
	}
	return u
}

// Powerless says whether a device is known to be without power: its feeds are,
// and it does not answer.
func (m *Moment) Powerless(k estate.Key) bool {
	d := m.e.Device(k)
	return d != nil && m.powerless(d)
}

func (m *Moment) powerless(d *estate.Device) bool {
	return len(d.Power) > 0 && !m.hears(d).answers && m.power(d).state == powerNo
}

// utilityFeed weighs a cable that comes from the utility: that it is gone is
// measured by the UPSes of the site, and that it is there says only that.
func (m *Moment) utilityFeed(d *estate.Device) power {
	if d.Supply != nil || m.hears(d).answers {
		return power{} // what answers hangs on something else, whatever the UPSes measure
	}
	u := m.mains(d.Site)
	if !u.known || u.there {
		return power{}
	}
	return power{state: powerNo, at: m.now, cause: u.witness, reasons: []Reason{{Stance: For, Text: Say("the utility is gone at %s, as its UPS measures", d.Site)}}}
}
