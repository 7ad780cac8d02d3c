// Package power is the arithmetic of the power graph: what each element
// carries against what it may, what would happen to the rest if one were lost,
// and how long a battery lasts.
//
//	power.go     what is carried, element by element
//	lost.go      the same after an element is lost
//	battery.go   how long a UPS lasts, by its own past, and what to shed
//
// Everything is worked out from the estate and the newest evidence: no I/O and
// no clock.
package power

import (
	"cmp"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// World is what the arithmetic is done on.
type World struct {
	Estate   *estate.Estate
	Evidence *verdict.Evidence
	Now      time.Time
}

// Kind is what kind of element carries power.
type Kind string

// The kinds of element.
const (
	UPS    Kind = "ups"
	PDU    Kind = "pdu"
	Bank   Kind = "bank"
	Phase  Kind = "phase"
	Source Kind = "source" // anything else that gives power: a PoE switch, an enclosure
)

// An Element is something that carries power to others. Zero ratings are not
// known, and nil is what is not measured.
type Element struct {
	Device  estate.Key
	Kind    Kind
	Name    string // of a bank or a phase
	W, A    *float64
	RatingW float64
	RatingA float64
	Breaker *bool // closed, where that is measured
}

// Share is how full an element is: 1 is all that it may carry.
func (x Element) Share() (share float64, known bool) {
	switch {
	case x.W != nil && x.RatingW > 0:
		return *x.W / x.RatingW, true
	case x.A != nil && x.RatingA > 0:
		return *x.A / x.RatingA, true
	}
	return 0, false
}

// Headroom is what an element may carry beside what it does, in W.
func (x Element) Headroom(volts float64) (w float64, known bool) {
	switch {
	case x.W != nil && x.RatingW > 0:
		return x.RatingW - *x.W, true
	case x.A != nil && x.RatingA > 0:
		return (x.RatingA - *x.A) * volts, true
	}
	return 0, false
}

// Elements lists what carries power at a site, UPSes first, each before what
// hangs on it where the estate has them in that order.
func (w World) Elements(site estate.Key) []Element {
	var out []Element
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		if d.Site != site || !gives(d) {
			continue
		}
		out = append(out, w.Of(d)...)
	}
	rank := func(x Element) int {
		return slices.Index([]Kind{UPS, PDU, Phase, Bank, Source}, x.Kind)
	}
	slices.SortStableFunc(out, func(a, b Element) int {
		if (a.Kind == UPS) != (b.Kind == UPS) {
			return rank(a) - rank(b)
		}
		return 0
	})
	return out
}

// Of returns a device as an element, with its phases and banks.
func (w World) Of(d *estate.Device) []Element {
	whole := Element{Device: d.Key, Kind: kindOf(d), RatingA: d.Inlet.RatingA}
	if watts, known := verdict.Draw(w.Estate, w.Evidence, d.Key, w.Now); known {
		whole.W = &watts
	}
	whole.RatingW = d.Inlet.RatingA * d.Inlet.Voltage()
	if d.Supply != nil {
		whole.RatingW, whole.RatingA = w.ratingOf(d), 0
	}
	out := []Element{whole}
	for _, m := range w.Evidence.Meters[d.Key] {
		if whole.W == nil {
			break // what it said last is stale
		}
		switch m.Kind {
		case "inlet":
			out[0].A = m.A
		case "phase":
			out = append(out, Element{Device: d.Key, Kind: Phase, Name: m.Name, W: m.W, A: m.A, RatingA: cmp.Or(value(m.RatingA), d.Inlet.RatingA)})
		}
	}
	for _, b := range d.Banks {
		out = append(out, w.bank(d, b))
	}
	return out
}

// gives says whether a device is there to give power: a host with a USB port is not.
func gives(d *estate.Device) bool {
	return d.Supply != nil || slices.ContainsFunc(d.Outlets, func(o estate.Outlet) bool { return o.Kind != estate.USB })
}

func kindOf(d *estate.Device) Kind {
	switch {
	case d.Supply != nil:
		return UPS
	case !gives(d):
		return ""
	case slices.ContainsFunc(d.Outlets, func(o estate.Outlet) bool { return o.Kind == estate.Socket || o.Kind == estate.DC }):
		return PDU
	}
	return Source
}

// ratingOf is what a UPS can carry, in W: as the estate says, or as it does.
func (w World) ratingOf(d *estate.Device) float64 {
	if d.Supply.RatingW > 0 {
		return d.Supply.RatingW
	}
	return value(w.Evidence.Supplies[d.Key].Config.OutW)
}

func value(f *float64) float64 {
	if f == nil {
		return 0
	}
	return *f
}

// bank adds up its outlets, or takes what the gear measures of it.
func (w World) bank(d *estate.Device, b estate.Bank) Element {
	x := Element{Device: d.Key, Kind: Bank, Name: b.Name, RatingA: b.RatingA, RatingW: b.RatingA * d.Inlet.Voltage()}
	for _, m := range w.Evidence.Meters[d.Key] {
		if m.Kind == "bank" && m.Name == b.Name {
			x.W, x.A, x.Breaker = m.W, m.A, m.BreakerClosed
		}
	}
	if x.W != nil || x.A != nil {
		return x
	}
	watts, amps, all := 0.0, 0.0, true
	for _, n := range b.Outlets {
		o, fresh := w.outlet(estate.OutletEnd(d.Key, n))
		all = all && fresh && o.Metered
		watts, amps = watts+o.W, amps+o.A
	}
	if all {
		x.W, x.A = &watts, &amps
	}
	return x
}

// outlet returns what is known of an outlet, and whether that is fresh.
func (w World) outlet(end estate.End) (verdict.Outlet, bool) {
	o, known := w.Evidence.Outlets[end]
	d := w.Estate.Device(end.Device)
	if !known || d == nil {
		return o, false
	}
	ep, ok := d.OutletEndpoint()
	return o, ok && verdict.Fresh(ep, o.At, w.Now)
}

// Carried is what goes through one power cable, in W. Where that is not
// measured at the outlet it is the share of what the device draws.
func (w World) Carried(d *estate.Device, c estate.PowerCable) (watts float64, known bool) {
	switch o, fresh := w.outlet(c.From); {
	case fresh && o.Metered:
		return o.W, true
	case o.Metered: // it was, and that is stale
		return 0, verdict.Powerless(w.Estate, w.Evidence, c.From.Device, w.Now)
	}
	total, known := verdict.Draw(w.Estate, w.Evidence, d.Key, w.Now)
	return total / float64(max(1, len(d.Power))), known
}

// A Hanger is a device that hangs on an element, and what it takes from it.
type Hanger struct {
	Device    estate.Key
	From      estate.End
	Feed      string
	W         *float64
	On        *bool // of the outlet
	Essential bool
}

// Hangers lists what hangs on a device directly, in the order of its outlets.
func (w World) Hangers(k estate.Key) []Hanger {
	var out []Hanger
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		for _, c := range d.Power {
			if c.From.Device != k {
				continue
			}
			h := Hanger{Device: d.Key, From: c.From, Feed: c.Feed, Essential: d.Essential}
			if watts, known := w.Carried(d, c); known {
				h.W = &watts
			}
			if o, fresh := w.outlet(c.From); fresh {
				h.On = &o.On
			}
			out = append(out, h)
		}
	}
	slices.SortStableFunc(out, func(a, b Hanger) int { return a.From.Outlet() - b.From.Outlet() })
	return out
}

// Balance is what each feed of a site carries, in W, by its letter.
func (w World) Balance(site estate.Key) map[string]float64 {
	out := map[string]float64{}
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		for _, c := range d.Power {
			if d.Site != site || c.Feed == "" || kindOf(d) == UPS || kindOf(d) == PDU {
				continue // what hangs on a PDU is counted, and not the PDU once more
			}
			if watts, known := w.Carried(d, c); known {
				out[c.Feed] += watts
			}
		}
	}
	return out
}

// SiteW is what comes into a site, in W: what hangs on the utility itself.
func (w World) SiteW(site estate.Key) (total float64, known bool) {
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		if d.Site != site || len(d.Power) == 0 || d.Power[0].From.Device != estate.Utility {
			continue
		}
		if watts, ok := verdict.Draw(w.Estate, w.Evidence, d.Key, w.Now); ok {
			total, known = total+watts, true
		}
	}
	return total, known
}

// supply returns what a UPS says, while that is fresh.
func (w World) supply(d *estate.Device) (reading.Supply, bool) {
	s, known := w.Evidence.Supplies[d.Key]
	ep, ok := d.OutletEndpoint()
	return s.Supply, known && ok && verdict.Fresh(ep, s.At, w.Now)
}
