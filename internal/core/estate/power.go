package estate

import "slices"

// Fed returns the devices that have a power cable from this outlet.
func (e *Estate) Fed(from End) []Key { return e.fed[from] }

// FeedsOf returns the outlets that a device hangs on. The utility is left out,
// and so is what hangs on a UPS as a whole: there is nothing to be switched.
func (e *Estate) FeedsOf(k Key) []End {
	var ends []End
	if d := e.device[k]; d != nil {
		for _, c := range d.Power {
			if c.From.Kind() != Whole {
				ends = append(ends, c.From)
			}
		}
	}
	return ends
}

// PowerLine returns the strands of a power line: each the ends from the
// utility to the device itself, in order. The outlet stands with its PDU.
func (e *Estate) PowerLine(k Key) [][]End {
	d := e.device[k]
	if d == nil {
		return nil
	}
	var strands [][]End
	for _, c := range d.Power {
		if c.From.Device == Utility {
			strands = append(strands, []End{c.From, {Device: k}})
			continue
		}
		if len(strands) == MaxStrands {
			break // before looking at the rest: redundant layers multiply
		}
		above := e.PowerLine(c.From.Device)
		if len(above) == 0 {
			above = [][]End{{{Device: c.From.Device}}}
		}
		for _, s := range above {
			if len(strands) == MaxStrands {
				return strands
			}
			s = slices.Clone(s)
			s[len(s)-1] = c.From // the PDU, now with the outlet that is used
			strands = append(strands, append(s, End{Device: k}))
		}
	}
	return strands
}

// Loss is what a cut does to one device.
type Loss struct {
	Device Key
	Dark   bool // it has too few feeds left to run; otherwise it only loses redundancy
	Left   int  // feeds that it has left
	Of     int
}

// LosesPower works out what happens when the outlets of cut are off: every
// device that goes dark or loses a feed, also through PDUs that go dark
// themselves, in the order of the estate.
func (e *Estate) LosesPower(cut map[End]bool) []Loss {
	dark := map[Key]bool{}
	left := func(d *Device) int {
		n := 0
		for _, c := range d.Power {
			if !cut[c.From] && !dark[c.From.Device] {
				n++
			}
		}
		return n
	}
	for changed := true; changed; {
		changed = false
		for i := range e.Devices {
			d := &e.Devices[i]
			if len(d.Power) > 0 && !dark[d.Key] && left(d) < max(1, d.NeedsFeeds) {
				dark[d.Key], changed = true, true
			}
		}
	}
	var losses []Loss
	for i := range e.Devices {
		d := &e.Devices[i]
		if n := left(d); n < len(d.Power) {
			losses = append(losses, Loss{d.Key, dark[d.Key], n, len(d.Power)})
		}
	}
	return losses
}

// WithBanks adds to ends what is switched along with them: the other outlets of
// banks that can only be switched as a whole.
func (e *Estate) WithBanks(ends []End) []End {
	out := slices.Clone(ends)
	for _, end := range ends {
		d := e.device[end.Device]
		if d == nil || end.Kind() == Whole {
			continue
		}
		if b, ok := d.BankOf(end.Outlet()); ok && b.Whole && end.Port == portOf(Socket, end.Outlet()) {
			for _, n := range b.Outlets {
				if other := OutletEnd(end.Device, n); !slices.Contains(out, other) {
					out = append(out, other)
				}
			}
		}
	}
	return out
}

// Gives lists all that a device gives power through: each of its sources, and,
// without a port, the device as a whole.
func (d *Device) Gives() []End {
	ends := []End{{Device: d.Key}}
	for _, o := range d.Outlets {
		ends = append(ends, End{d.Key, o.Port()})
	}
	return ends
}

// Unfed lists what carries nothing once these ends are off: they themselves, what
// is switched along with them, and all that comes from a UPS whose output it is.
func (e *Estate) Unfed(ends []End) []End {
	out := e.WithBanks(ends)
	for _, end := range ends {
		if d := e.device[end.Device]; d != nil && end.Kind() == Output {
			out = append(out, d.Gives()...)
		}
	}
	return out
}

// SuppliesOf lists the UPSes that a device hangs on, however far above it, each once.
func (e *Estate) SuppliesOf(k Key) []Key {
	var out []Key
	for _, strand := range e.PowerLine(k) {
		for _, end := range strand {
			if d := e.device[end.Device]; d != nil && d.Supply != nil && end.Device != k && !slices.Contains(out, d.Key) {
				out = append(out, d.Key)
			}
		}
	}
	return out
}
